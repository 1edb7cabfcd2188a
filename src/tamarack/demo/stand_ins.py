"""The stand-in backends: timetable, fares and positions, small and made up.

They answer from the clock and the address alone, so that the same call gives the same kind of answer.
"""

import asyncio
import contextlib
import hmac
import math
import random
import signal
import time
from collections.abc import Awaitable, Callable, Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs
from zlib import crc32

import orjson
import uvicorn
from aiosmtpd.controller import Controller

from tamarack.demo.backends.announcer import (
    OVERFLOW_MODELS,
    RESERVED_MODELS,
    RESERVED_TOKENS,
    Announcer,
    Events,
    TurnedAway,
)
from tamarack.demo.backends.fleet_graph import FleetGraph
from tamarack.demo.collector import Collector
from tamarack.demo.harbour_office import HarbourOffice
from tamarack.demo.mail_box import MailBox
from tamarack.demo.places import (
    ANNOUNCER,
    ANNOUNCER_OVERFLOW,
    COLLECTOR,
    FLEET_GRAPH,
    HARBOUR_OFFICE,
    MAIL_BOX,
    MAIL_SERVER,
    POSITIONS_SPARE,
    VISITOR_SCREEN,
)
from tamarack.demo.timetable import sailings
from tamarack.demo.visitor_screen import VisitorScreen
from tamarack.demo.world import PORTS, VESSELS
from tamarack.settings import Settings

App = Callable[[Any, Any, Any], Awaitable[None]]
Reply = tuple[int, Any]
Handler = Callable[[str, list[str], dict[str, str], bytes], Reply]

_CODES = list(PORTS)


def today() -> str:
    """The day whose sailings are told where a call names none."""
    return datetime.now(UTC).date().isoformat()


def _stops(sailing: dict[str, Any]) -> list[dict[str, Any]]:
    left = datetime.fromisoformat(sailing["departs"])
    return [
        {"port": sailing["from"], "arrives": None, "departs": f"{left:%H:%M}"},
        {"port": sailing["to"], "arrives": f"{left + timedelta(minutes=95):%H:%M}", "departs": "—"},
    ]


def _not_found(what: str) -> Reply:
    return 404, {"title": "Not found", "detail": f"there is no {what}"}


def _match(sailing: dict[str, Any], wanted: dict[str, list[str]]) -> bool:
    return all(not values or sailing[field] in values for field, values in wanted.items())


def timetable(method: str, path: list[str], query: dict[str, str], body: bytes) -> Reply:
    """The timetable service, for both versions of Sailings."""
    day = query.get("day") or today()
    match method, path:
        case "GET", ["sailings"]:
            wanted = {field: [query[field]] for field in ("from", "to") if query.get(field)}
            return 200, {"sailings": [s for s in sailings(day) if _match(s, wanted)]}
        case "GET", ["sailings", id]:
            found = next((s for s in sailings(day) if s["id"] == id), None)
            return (200, found) if found else _not_found(f"sailing {id}")
        case "GET", ["sailings", id, "stops"]:
            found = next((s for s in sailings(day) if s["id"] == id), None)
            return (200, _stops(found)) if found else _not_found(f"sailing {id}")
        case "POST", ["sailings", "search"]:
            try:
                asked = orjson.loads(body)
                days = [str(item) for item in asked["days"]][:14]
                wanted = {name: asked.get(key, []) for name, key in (("from", "from"), ("vessel", "vessels"))}
            except (ValueError, KeyError, TypeError):
                return 400, {"title": "Bad search", "detail": "a search is an object with a list of days"}
            return 200, {"sailings": [s for one in days for s in sailings(one) if _match(s, wanted)]}
        case "GET", ["ports"]:
            return 200, [{"code": code, "name": name, "vehicles": code != "dunmoor"} for code, name in PORTS.items()]
        case "GET", ["ports", code, "board"] if code in PORTS:
            return 200, {"sailings": [s for s in sailings(day) if s["from"] == code]}
    return _not_found("such thing here")


_TARIFFS: list[dict[str, Any]] = [
    {"id": "winter", "title": "Winter", "adult": "12.50", "car": "23.50"},
    {"id": "summer", "title": "Summer", "adult": "15.00", "car": "31.00"},
    {"id": "evening", "title": "Evening", "adult": 9.5, "car": "18.00"},
]


def fares(method: str, path: list[str], query: dict[str, str], body: bytes) -> Reply:
    """The price engine."""
    match method, path:
        case "POST", ["quotes"]:
            try:
                asked = orjson.loads(body)
                adults, children = int(asked.get("adults", 1)), int(asked.get("children", 0))
                legs = 1 + abs(_CODES.index(asked["from"]) - _CODES.index(asked["to"]))
            except (ValueError, KeyError, TypeError, AttributeError):
                return 400, {"title": "Cannot be sold", "detail": "a passage has from, to and day"}
            cents = legs * (1250 * adults + 625 * children) + (2350 if asked.get("vehicle", "none") == "car" else 0)
            amount = f"{cents // 100}.{cents % 100:02d}"
            return 200, {"amount": amount, "currency": "SKR", "tariff": "winter", "valid_until": None}
        case "GET", ["tariffs"]:
            return 200, _TARIFFS
        case "GET", ["tariffs", id]:
            found = next((tariff for tariff in _TARIFFS if tariff["id"] == id), None)
            return (200, found) if found else _not_found(f"tariff {id}")
    return _not_found("such thing here")


def _point(vessel: str, at: float) -> dict[str, Any]:
    turn = at / 1800 + len(vessel)
    return {
        "at": datetime.fromtimestamp(int(at), UTC).isoformat(),
        "latitude": round(61.2 + 0.3 * math.sin(turn), 4),
        "longitude": round(-4.5 + 0.5 * math.cos(turn), 4),
    }


def _vessel(name: str, at: float) -> dict[str, Any]:
    point = _point(name, at)
    speed = round(11 + 3 * math.sin(at / 300 + len(name)), 1)
    bound_for = _CODES[int(at / 5400 + len(name)) % len(_CODES)]
    heading = int(at / 7 + 40 * len(name)) % 360
    return {"name": name, "point": point, "speed_knots": speed, "heading": heading, "bound_for": bound_for}


def positions(method: str, path: list[str], query: dict[str, str], body: bytes) -> Reply:
    """Where the vessels are."""
    at = time.time()
    match method, path:
        case "GET", ["vessels"]:
            return 200, [_vessel(name, at) for name in VESSELS]
        case "GET", ["vessels", name] if name in VESSELS:
            return 200, _vessel(name, at)
        case "GET", ["vessels", name, "track"] if name in VESSELS:
            return 200, [_point(name, at - 60 * back) for back in range(59, -1, -1)]
    return _not_found("such vessel")


def _waits(low_ms: float, mean_ms: float) -> Callable[[], float]:
    return lambda: (low_ms + random.expovariate(1 / mean_ms)) / 1000


def _berth(port: str, number: int) -> dict[str, Any]:
    turn = (int(time.time() / 2700) + _CODES.index(port) + number) % 7
    vessel = list(VESSELS)[turn] if turn < len(VESSELS) else None
    return {"id": f"{port}-{number}", "port": port, "length_metres": 70 + 20 * number, "vessel": vessel}


def berths(method: str, path: list[str], query: dict[str, str], body: bytes) -> Reply:
    """The harbour office's berth register."""
    every = [_berth(port, number) for port in _CODES for number in (1, 2)]
    match method, path:
        case "GET", ["berths"]:
            return 200, [one for one in every if query.get("port", one["port"]) == one["port"]]
        case "GET", ["berths", id]:
            found = next((one for one in every if one["id"] == id), None)
            return (200, found) if found else _not_found(f"berth {id}")
        case "POST", ["berths", id, "holds"] if any(one["id"] == id for one in every):
            try:
                asked = orjson.loads(body)
                vessel, hours = str(asked["vessel"]), int(asked["hours"])
            except (ValueError, KeyError, TypeError):
                return 400, {"title": "Cannot be held", "detail": "a hold has a vessel and hours"}
            if vessel not in VESSELS or not 1 <= hours <= 12:
                return 400, {"title": "Cannot be held", "detail": "the vessel is not ours, or the hours not 1 to 12"}
            return 201, {"berth": id, "vessel": vessel, "hours": hours}
    return _not_found("such thing here")


STAND_INS: tuple[tuple[str, Handler, Callable[[], float]], ...] = (
    ("timetable", timetable, _waits(4, 8)),
    ("fares", fares, _waits(20, 40)),
    ("positions", positions, _waits(1, 3)),
    ("berths", berths, _waits(2, 5)),
    ("announcer", Announcer(RESERVED_MODELS, RESERVED_TOKENS), _waits(120, 150)),
)
"""Name, handler and how long each takes to answer."""
_PLACES = {"announcer": ANNOUNCER}
"""The places of those that do not stand where they do in the table."""
FRESH_S = {"timetable": 15}
"""For how long a stand-in's answers hold, in seconds, as it says itself (Cache-Control, RFC 9111)."""
AILS_S, AILING_EVERY_S = 50, 600
"""The first of the two places that tell positions fails for so many seconds, at the start of each ten minutes."""
WORD_S = 0.01
"""Between two words of a draft that is told as it is made."""
SLOWER = 8
"""How many times as long the slow model takes for a word."""
REGISTER_FIELD = b"x-harbour-register"
"""The field that the berth register wants its secret in."""


def demo_secret(home: Path, name: str) -> str:
    """A secret that the demo's programs share, as the seed wrote it; empty before."""
    try:
        return (home / "demo" / f"{name}.secret").read_text()
    except OSError:
        return ""


def application(
    handler: Handler,
    wait: Callable[[], float],
    wanted: Callable[[], str] | None = None,
    fresh_s: int = 0,
    ails: bool = False,
) -> App:
    """A stand-in as an ASGI application.

    `wanted` is the secret that it asks callers for. Answers to GET hold for `fresh_s` seconds and are told apart by
    their ETag. One that `ails` fails for a while, by the clock.
    """

    async def app(scope: Any, receive: Any, send: Any) -> None:
        body = b""
        while True:
            message = await receive()
            body += message.get("body", b"")
            if not message.get("more_body"):
                break
        headers = dict(scope["headers"])
        await asyncio.sleep(wait())
        query = {name: values[-1] for name, values in parse_qs(scope["query_string"].decode()).items()}
        path = [part for part in scope["path"].split("/") if part]
        method = "GET" if scope["method"] == "HEAD" else scope["method"]
        shown = headers.get(REGISTER_FIELD, b"").decode("latin-1")
        if ails and time.time() % AILING_EVERY_S < AILS_S:
            status, reply = 503, {"title": "Out of order"}
        elif wanted is not None and not hmac.compare_digest(shown, wanted()):
            status, reply = 403, {"title": "The register is closed to you"}
        else:
            status, reply = handler(method, path, query, body)
        if isinstance(reply, Events):
            await _tell(reply, send)
            return
        fields = [(b"content-type", b"application/json")]
        if isinstance(reply, TurnedAway):
            fields.append((b"retry-after", b"%d" % reply.after_s))
            reply = reply.told
        content = orjson.dumps(reply)
        if fresh_s and method == "GET" and status == 200:
            tag = b'"%08x"' % crc32(content)
            fields += [(b"cache-control", b"public, max-age=%d" % fresh_s), (b"etag", tag)]
            if headers.get(b"if-none-match") == tag:
                status, content = 304, b""
        if status != 304:
            fields.append((b"content-length", b"%d" % len(content)))
        await send({"type": "http.response.start", "status": status, "headers": fields})
        await send({"type": "http.response.body", "body": b"" if scope["method"] == "HEAD" else content})

    return app


async def _tell(events: Events, send: Any) -> None:
    """Tell events as they come, a little apart."""
    fields = [(b"content-type", b"text/event-stream"), (b"cache-control", b"no-store")]
    await send({"type": "http.response.start", "status": 200, "headers": fields})
    for piece in events.pieces:
        await send({"type": "http.response.body", "body": piece, "more_body": True})
        await asyncio.sleep(WORD_S * (SLOWER if events.slow else 1))
    await send({"type": "http.response.body", "body": b""})


class _Server(uvicorn.Server):  # type: ignore[misc]
    @contextlib.contextmanager
    def capture_signals(self) -> Iterator[None]:
        yield  # the signals are handled once, for all of them


async def serve(settings: Settings) -> None:
    """Run every stand-in, until told to stop."""
    home, gateway = settings.home, settings.gateway_url("production")

    def register() -> str:
        return demo_secret(home, "harbour-register")

    applications: dict[int, Any] = {
        _PLACES.get(name, place): application(
            handler, wait, register if name == "berths" else None, FRESH_S.get(name, 0), name == "positions"
        )
        for place, (name, handler, wait) in enumerate(STAND_INS)
    }
    applications[POSITIONS_SPARE] = application(positions, _waits(2, 4))
    applications[ANNOUNCER_OVERFLOW] = application(Announcer(OVERFLOW_MODELS), _waits(200, 250))
    applications[FLEET_GRAPH] = FleetGraph()
    applications[HARBOUR_OFFICE] = HarbourOffice(demo_secret(home, "harbour-office") or "not-seeded", gateway)
    applications[VISITOR_SCREEN] = VisitorScreen(gateway, home / "demo" / "visitor-screen.production.key")
    applications[MAIL_BOX] = box = MailBox()
    applications[COLLECTOR] = Collector()
    mail_server = Controller(box, hostname="127.0.0.1", port=settings.stand_in_port(MAIL_SERVER))
    mail_server.start()
    servers = [
        _Server(
            uvicorn.Config(app, host="127.0.0.1", port=settings.stand_in_port(place), lifespan="off", log_level="error")
        )
        for place, app in applications.items()
    ]

    def stop() -> None:
        for server in servers:
            server.should_exit = True

    loop = asyncio.get_running_loop()
    for number in (signal.SIGTERM, signal.SIGINT):
        loop.add_signal_handler(number, stop)
    await asyncio.gather(*(server.serve() for server in servers))
    mail_server.stop()
