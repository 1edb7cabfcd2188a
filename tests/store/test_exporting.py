"""The steady export: everything is taken once, in order, however often the collector is away."""

import asyncio
import threading
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta

import orjson
import psycopg
import pytest
import uvicorn
from sqlmodel import Session

from core.traffic.test_traffic import record
from helpers import free_port, until
from tamarack.core.traffic.otlp import PATH, request
from tamarack.core.traffic.record import Record
from tamarack.demo.collector import Collector
from tamarack.settings import Settings
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.columns import now
from tamarack.store.errors import NotPossible
from tamarack.store.export import queries as exporting
from tamarack.store.quotas import queries as quotas
from tamarack.store.secrets.queries import set_secret
from tamarack.store.traffic.recording import Batch, take_in
from tamarack.worker.export import send_one

AT = datetime(2026, 11, 23, 8, tzinfo=UTC)


def calls(many: int, mark: str) -> list[Record]:
    at = int(AT.timestamp() * 1e6)
    return [record(at + place, id=f"{mark}-{place}", environment="production", api="sailings", method="GET", path="/a",
                   status=429 if place % 5 == 0 else 200, reason="over-rate" if place % 5 == 0 else "")
            for place in range(many)]  # fmt: skip


class Seen(Collector):
    """The collector, with the fields of its requests."""

    def __init__(self) -> None:
        super().__init__()
        self.fields: list[dict[bytes, bytes]] = []

    async def __call__(self, scope: object, receive: object, send: object) -> None:
        self.fields.append(dict(scope["headers"]))  # type: ignore[index]
        await super().__call__(scope, receive, send)


@pytest.fixture
def collector() -> Iterator[tuple[Seen, str]]:
    """A collector on loopback, and where it takes logs."""
    app, port = Seen(), free_port()
    server = uvicorn.Server(uvicorn.Config(app, host="127.0.0.1", port=port, lifespan="off", log_level="error"))
    thread = threading.Thread(target=lambda: asyncio.run(server.serve()))
    thread.start()
    until(lambda: server.started, "the start of the collector")
    yield app, f"http://127.0.0.1:{port}{PATH}"
    server.should_exit = True
    thread.join()


def put(settings: Settings, *batches: Batch) -> None:
    with psycopg.connect(settings.database, autocommit=True) as connection:
        take_in(connection, list(batches))


def send_all(session: Session, settings: Settings) -> int:
    """Send until nothing is left, without waiting for the time of the next try."""
    sent = 0
    while exporting.waiting(session)[0]:
        kept = exporting.export(session)
        kept.next_try_at = None
        sent += send_one(session, settings, lambda _: None)
    return sent


def test_everything_recorded_from_then_on_is_taken_once(
    settings: Settings, session: Session, collector: tuple[Seen, str]
) -> None:
    app, address = collector
    put(settings, Batch("before", "n1", calls(7, "old")))
    exporting.set_up(session, COMMAND_LINE, address, True, "", "")
    session.commit()
    assert exporting.waiting(session) == (0, 0)
    put(settings, *(Batch(f"b{place}", f"n{place % 2}", calls(50 + place, f"b{place}")) for place in range(5)))
    assert exporting.waiting(session) == (5, 260)
    assert send_all(session, settings) == 260
    assert app.state() == {"records": 260, "batches": 5, "again": 0, "failed": 0, "failing": False}
    kept = exporting.export(session)
    assert (kept.calls, kept.tries, kept.problem) == (260, 0, "")
    assert send_one(session, settings, lambda _: None) == 0


def test_nothing_is_lost_while_the_collector_fails_or_is_away(
    settings: Settings, session: Session, collector: tuple[Seen, str]
) -> None:
    app, address = collector
    exporting.set_up(session, COMMAND_LINE, address, True, "", "")
    put(settings, Batch("a", "n", calls(30, "a")))
    app.failing = True
    said: list[str] = []
    assert send_one(session, settings, said.append) == 0
    kept = exporting.export(session)
    assert "answered 503" in kept.problem
    assert kept.next_try_at is not None
    assert kept.next_try_at > now()
    assert send_one(session, settings, said.append) == 0  # not before its time
    assert app.failed == 1
    put(settings, Batch("b", "n", calls(20, "b")))
    waits = []
    for _ in range(12):
        kept.next_try_at = None
        send_one(session, settings, said.append)
        waits.append((exporting.export(session).next_try_at or now()) - now())
    assert waits == sorted(waits) or waits[-1] <= exporting.LONGEST_WAIT
    assert waits[-1] <= exporting.LONGEST_WAIT
    app.failing = False
    kept.address = f"http://127.0.0.1:{free_port()}{PATH}"
    kept.next_try_at = None
    send_one(session, settings, said.append)
    assert "no connection" in exporting.export(session).problem
    kept.address = address
    assert send_all(session, settings) == 50
    assert (app.records, app.again) == (50, 0)
    assert len([line for line in said if "tried again" in line]) == 1  # said once, not at every try


def test_what_was_taken_but_not_noted_comes_again_and_is_known_by_its_number(
    settings: Settings, session: Session, collector: tuple[Seen, str]
) -> None:
    app, address = collector
    exporting.set_up(session, COMMAND_LINE, address, True, "", "")
    session.commit()
    put(settings, Batch("a", "n", calls(30, "a")), Batch("b", "n", calls(20, "b")))
    kept = exporting.export(session)
    app.take(orjson.dumps(request(exporting.following(session, kept))))  # and the worker died before it could note it
    assert send_all(session, settings) == 50
    assert (app.records, app.again) == (50, 2)


def test_late_batches_are_exported_too(settings: Settings, session: Session, collector: tuple[Seen, str]) -> None:
    app, address = collector
    exporting.set_up(session, COMMAND_LINE, address, True, "", "")
    put(settings, Batch("a", "n", calls(3, "a")))
    send_all(session, settings)
    late = [one._replace(at=one.at - 3_600_000_000) for one in calls(4, "late")]
    put(settings, Batch("late", "n", late))
    send_all(session, settings)
    assert app.records == 7


def test_batches_that_hold_use_of_quotas_are_passed_over(
    settings: Settings, session: Session, collector: tuple[Seen, str]
) -> None:
    app, address = collector
    exporting.set_up(session, COMMAND_LINE, address, True, "", "")
    quotas.take_in_use(session, "use", "n", [])
    session.commit()
    assert exporting.waiting(session) == (0, 0)
    put(settings, Batch("a", "n", calls(3, "a")))
    assert send_all(session, settings) == 3
    assert app.state()["batches"] == 1


def test_a_secret_goes_in_its_header_and_nowhere_else(
    settings: Settings, session: Session, collector: tuple[Seen, str]
) -> None:
    app, address = collector
    set_secret(
        session,
        COMMAND_LINE,
        settings.keys.credentials.sealing,
        "collector-key",
        "made-up-for-this",
        hosts=["127.0.0.1"],
    )
    exporting.set_up(session, COMMAND_LINE, address, True, "x-collector-key", "collector-key")
    put(settings, Batch("a", "n", calls(3, "a")))
    send_all(session, settings)
    assert app.fields[-1][b"x-collector-key"] == b"made-up-for-this"
    assert "made-up-for-this" not in repr(exporting.export(session))


@pytest.mark.parametrize(
    ("address", "header", "secret", "words"),
    [
        ("collector", "", "", "is not an address"),
        ("http://c.example/v1/logs", "x-key", "", "go together"),
        ("http://c.example/v1/logs", "x key", "s", "is not the name of a header field"),
        ("http://c.example/v1/logs", "x-key", "nothing", "There is no secret"),
    ],
)
def test_what_cannot_be_set_says_why(session: Session, address: str, header: str, secret: str, words: str) -> None:
    with pytest.raises(NotPossible, match=words):
        exporting.set_up(session, COMMAND_LINE, address, True, header, secret)


def test_fields_have_the_standards_names_where_it_has_one() -> None:
    call = record(int(AT.timestamp() * 1e6), method="GET", path="/a", status=503, reason="backend-away", total_us=1500,
                  address="192.0.2.1", end_user="mette", prompt_tokens=7)._asdict()  # fmt: skip
    body = request([(9, "production-1", [call | {"at": AT + timedelta(microseconds=5)}])])
    (resource,) = body["resourceLogs"]
    told = {one["key"]: one["value"] for one in resource["resource"]["attributes"]}
    assert told["service.instance.id"] == {"stringValue": "production-1"}
    assert told["tamarack.batch"] == {"intValue": "9"}
    ((log,),) = [scope["logRecords"] for scope in resource["scopeLogs"]]
    assert log["timeUnixNano"] == f"{int(AT.timestamp())}000005000"
    assert (log["severityNumber"], log["severityText"]) == (17, "ERROR")
    attributes = {one["key"]: next(iter(one["value"].values())) for one in log["attributes"]}
    assert attributes == {
        "http.request.method": "GET", "url.path": "/a", "http.response.status_code": "503", "error.type": "backend-away",
        "client.address": "192.0.2.1", "user.id": "mette", "gen_ai.usage.input_tokens": "7", "tamarack.total_us": "1500",
        "tamarack.id": call["id"],
    }  # fmt: skip
