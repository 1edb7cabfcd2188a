"""The driver: a light, bounded stream of calls through the real gateway, so that the pages are alive."""

import asyncio
import http.client
import json
import random
import re
import signal
import time
from base64 import b64encode
from datetime import UTC, datetime

from tamarack.demo.calls import KINDS, MISFITS, PER_MINUTE, Kind, as_called, choose, fill, rhythm
from tamarack.demo.harbour_office import LIVES_S
from tamarack.demo.places import HARBOUR_OFFICE
from tamarack.demo.stand_ins import demo_secret
from tamarack.demo.world import ORGANIZATIONS, DemoApplication
from tamarack.settings import NODES, Settings

PACE = 1.5
"""Calls against the past traffic of the same hour; never fewer than one in two seconds."""
TIMEOUT_S = 5.0
WELL_MADE = 0.96
"""The share of calls that are as the descriptions say."""


_LENGTH = re.compile(rb"\r\ncontent-length: *(\d{1,9})\r")


class _Node:
    """A kept connection to a gateway node, with just enough HTTP to send a call and read the answer away."""

    def __init__(self, port: int) -> None:
        self._port = port
        self._lock = asyncio.Lock()
        self._streams: tuple[asyncio.StreamReader, asyncio.StreamWriter] | None = None

    async def call(self, kind: Kind, path: str, body: str, shown: str, agent: str) -> None:
        async with self._lock:
            try:
                async with asyncio.timeout(TIMEOUT_S):
                    await self._call(kind, path, body, shown, agent)
            except (OSError, TimeoutError, ValueError, asyncio.IncompleteReadError):
                self.close()

    async def _call(self, kind: Kind, path: str, body: str, shown: str, agent: str) -> None:
        if self._streams is None:
            self._streams = await asyncio.open_connection("127.0.0.1", self._port)
        reader, writer = self._streams
        lines = [f"{kind.method} {path} HTTP/1.1", "Host: gateway.skerry.example", f"User-Agent: {agent}"]
        if shown:
            lines.append(shown)
        if body:
            lines += ["Content-Type: application/json", f"Content-Length: {len(body)}"]
        writer.write(("\r\n".join(lines) + "\r\n\r\n" + body).encode())
        head = (await reader.readuntil(b"\r\n\r\n")).lower()
        length = _LENGTH.search(head)
        if length is None:
            self.close()  # it ends where it says itself; the next call connects anew
        else:
            await reader.readexactly(int(length[1]))

    def close(self) -> None:
        if self._streams is not None:
            self._streams[1].close()
            self._streams = None


def _key(settings: Settings, title: str, environment: str) -> str:
    path = settings.home / "demo" / f"{title.lower().replace(' ', '-')}.{environment}.key"
    try:
        return path.read_text()
    except OSError:
        return ""


class _Tokens:
    """Tokens of the harbour office, each used for half of its life."""

    def __init__(self) -> None:
        self._held: dict[str, tuple[float, str]] = {}

    async def token(self, settings: Settings, client: str) -> str:
        until, token = self._held.get(client, (0.0, ""))
        if time.monotonic() > until:
            token = await asyncio.to_thread(self._ask, settings, client)
            self._held[client] = (time.monotonic() + (LIVES_S / 2 if token else 5.0), token)
        return token

    @staticmethod
    def _ask(settings: Settings, client: str) -> str:
        asked = http.client.HTTPConnection("127.0.0.1", settings.stand_in_port(HARBOUR_OFFICE), timeout=TIMEOUT_S)
        signed_in = b64encode(f"{client}:{demo_secret(settings.home, 'harbour-office')}".encode()).decode()
        headers = {"Authorization": f"Basic {signed_in}", "Content-Type": "application/x-www-form-urlencoded"}
        try:
            asked.request("POST", "/token", "grant_type=client_credentials", headers)
            return str(json.loads(asked.getresponse().read())["access_token"])
        except (OSError, ValueError, KeyError, http.client.HTTPException):
            return ""
        finally:
            asked.close()


_TOKENS = _Tokens()


async def drive(settings: Settings) -> None:
    """Send calls until told to stop: mostly good ones, some without a key, and at times a burst over a limit."""
    stop = asyncio.Event()
    loop = asyncio.get_running_loop()
    for number in (signal.SIGTERM, signal.SIGINT):
        loop.add_signal_handler(number, stop.set)
    draw = random.Random()
    applications = [application for organization in ORGANIZATIONS for application in organization.applications]
    nodes = [(_Node(settings.port(name)), environment) for name, environment in NODES.items()]
    production = [pair for pair in nodes if pair[1] == "production"]
    while not stop.is_set():
        application = draw.choices(applications, [a.weight for a in applications])[0]
        node, environment = nodes[-1] if draw.random() < 0.05 else draw.choice(production)
        await _one(settings, draw, application, node, environment)
        if draw.random() < 0.004:
            sync = next(a for a in applications if a.title == "Manifest Sync")
            for _ in range(25):
                await _one(settings, draw, sync, *production[0])
        try:
            async with asyncio.timeout(draw.expovariate(max(0.5, PACE * PER_MINUTE / 60 * rhythm(datetime.now(UTC))))):
                await stop.wait()
        except TimeoutError:
            continue
    for node, _ in nodes:
        node.close()


async def _one(
    settings: Settings, draw: random.Random, application: DemoApplication, node: _Node, environment: str
) -> None:
    products = {product for product, _ in application.subscriptions}
    name = application.title.lower().replace(" ", "-")
    known = KINDS if draw.random() < WELL_MADE else MISFITS
    kinds = [kind for kind in known if kind.product in products] or [kind for kind in KINDS if kind.product in products]
    kind = as_called(choose(draw, kinds), name, 0)
    day = datetime.now(UTC).date().isoformat()
    key = _key(settings, application.title, environment)
    if draw.random() < 0.01:
        key = draw.choice(("", "tmk_left-over-from-last-year"))
    shown = f"X-Skerry-Key: {key}" if key else ""
    if application.outside:
        token = await _TOKENS.token(settings, application.outside)
        shown = f"Authorization: Bearer {token}" if token else ""
    path, body = fill(kind.path, draw, day), fill(kind.body, draw, day)
    await node.call(kind, path, body, shown, f"{application.title.replace(' ', '')}/1.4")
