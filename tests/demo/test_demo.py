"""The demo's world: what its callers ask for is there, and its past repeats itself."""

import random
from datetime import UTC, datetime
from pathlib import Path

import psycopg
import pytest

from core.traffic.test_traffic import record
from tamarack.core.carrying.routing import Router
from tamarack.core.traffic.rollup import GRAINS
from tamarack.demo import stand_ins
from tamarack.demo.backends.announcer import Announcer
from tamarack.demo.backends.fleet_graph import FleetGraph
from tamarack.demo.calls import KINDS, fill
from tamarack.demo.past import BATCH, Past, PastCaller, kept_past, load_past, past_calls
from tamarack.demo.seed import shipped_configuration
from tamarack.demo.stand_ins import STAND_INS
from tamarack.demo.world import ORGANIZATIONS
from tamarack.settings import Settings
from tamarack.store.traffic.recording import Batch, take_in

UNTIL = datetime(2026, 11, 23, 12, tzinfo=UTC)


def test_every_kind_of_call_is_an_operation_that_its_stand_in_answers(monkeypatch: pytest.MonkeyPatch) -> None:
    day = "2026-11-23"
    monkeypatch.setattr(stand_ins, "today", lambda: day)
    configuration = shipped_configuration(7400).configuration
    router: Router[str] = Router()
    for api in configuration.apis:
        for version in api.versions:
            for operation in version.operations:
                router.add(
                    operation.method,
                    version.base_path + operation.path,
                    f"{api.name} {version.version} {operation.call}",
                )
    handlers = {name: handler for name, handler, _ in STAND_INS} | {"announcer": Announcer(("notices",))}
    graph = FleetGraph()
    handlers["fleet-graph"] = lambda method, parts, asked, body: graph.run(method, b"", body)
    draw = random.Random(1)
    for kind in KINDS:
        for _ in range(20):
            path, _, query = fill(kind.path, draw, day).partition("?")
            assert router.find(kind.method, path.encode()) == f"{kind.api} {kind.version} {kind.operation}"
            parts = path.split("/")[3:]
            asked = dict(pair.split("=") for pair in query.split("&") if pair)
            if kind.backend:  # the others are on mocks
                status, _ = handlers[kind.backend](kind.method, parts, asked, fill(kind.body, draw, day).encode())
                assert status == 200, path


CALLERS = [
    PastCaller(organization.name, one.title.lower().replace(" ", "-"), one.weight, "c",
               {product: ("s", f"{product}/{plan}") for product, plan in one.subscriptions}, "192.0.2.1")
    for organization in ORGANIZATIONS for one in organization.applications
]  # fmt: skip
TARGETS = {"timetable": "t", "fares": "f", "positions": "p", "berths": "b", "announcer": "a", "announcer, second": "a2",
           "positions, second": "p2", "fleet-graph": "g"}  # fmt: skip


def test_the_past_is_the_same_each_time_and_holds_its_events() -> None:
    first = list(past_calls(CALLERS, UNTIL, TARGETS, 1, 2))
    again = past_calls(CALLERS, UNTIL, TARGETS, 1, 2)
    assert all(one == other for one, other in zip(first, again, strict=True))
    assert len({call.id for call in first}) == len(first)
    assert sum(call.reason == "over-plan" for call in first) > 5_000
    assert sum(call.reason == "unknown-credential" for call in first) > 10
    assert all(call.at < UNTIL.timestamp() * 1_000_000 for call in first)


def test_the_past_is_loaded_once_beside_calls_that_were_recorded_meanwhile(settings: Settings, tmp_path: Path) -> None:
    kept = tmp_path / "past.json"
    Past(CALLERS, TARGETS, 1, UNTIL, 1).keep(kept)
    past = kept_past(kept)
    assert past is not None
    assert past == Past(CALLERS, TARGETS, 1, UNTIL, 1)
    with psycopg.connect(settings.database, autocommit=True) as connection:
        # The day, and the hour, of which the past holds a part has calls of its own already.
        now = int(UNTIL.timestamp() * 1_000_000)
        live = [record(now + number, id=f"live-{number}") for number in range(5)]
        take_in(connection, [Batch("b1", "production-1", live)])
        many = load_past(connection, past)
        assert many > 1_000
        for grain in GRAINS:
            total = connection.execute(f"SELECT sum(calls) FROM rollup_{grain}").fetchone()
            assert total == (many + 5,), grain
        assert connection.execute('SELECT count(*) FROM "call"').fetchone() == (many + 5,)
        assert load_past(connection, past) == 0, f"the batch {BATCH} is known"


def test_without_a_past_that_waits_there_is_none(tmp_path: Path) -> None:
    assert kept_past(tmp_path / "past.json") is None
