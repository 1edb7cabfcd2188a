"""The demo's world: what its callers ask for is there, and its past repeats itself."""

import random
from datetime import UTC, datetime

import pytest

from tamarack.core.carrying.routing import Router
from tamarack.demo import stand_ins
from tamarack.demo.calls import KINDS, fill
from tamarack.demo.past import PastCaller, past_calls
from tamarack.demo.seed import shipped_configuration
from tamarack.demo.stand_ins import STAND_INS
from tamarack.demo.world import ORGANIZATIONS

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
    handlers = {name: handler for name, handler, _ in STAND_INS}
    draw = random.Random(1)
    for kind in KINDS:
        for _ in range(20):
            path, _, query = fill(kind.path, draw, day).partition("?")
            assert router.find(kind.method, path.encode()) == f"{kind.api} {kind.version} {kind.operation}"
            parts = path.split("/")[3:]
            asked = dict(pair.split("=") for pair in query.split("&") if pair)
            status, _ = handlers[kind.backend](kind.method, parts, asked, fill(kind.body, draw, day).encode())
            assert status == 200, path


def test_the_past_is_the_same_each_time_and_holds_its_events() -> None:
    callers = [
        PastCaller(organization.name, one.title.lower().replace(" ", "-"), one.weight, "c",
                   {product: ("s", f"{product}/{plan}") for product, plan in one.subscriptions}, "192.0.2.1")
        for organization in ORGANIZATIONS for one in organization.applications
    ]  # fmt: skip
    targets = {"timetable": "t", "fares": "f", "positions": "p", "berths": "b", "announcer": "a"}
    first = list(past_calls(callers, UNTIL, targets, 1, 3))
    assert first == list(past_calls(callers, UNTIL, targets, 1, 3))
    assert len({call.id for call in first}) == len(first)
    assert sum(call.reason == "over-plan" for call in first) > 5_000
    assert sum(call.reason == "unknown-credential" for call in first) > 10
    assert all(call.at < UNTIL.timestamp() * 1_000_000 for call in first)
