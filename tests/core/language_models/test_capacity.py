"""Capacity: the reserved target first, what it turns away at the next within the same call, and models by their names."""

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from core.carried import Bed, carry
from core.language_models.chats import JSON, NOW, Chats, asking, told
from core.protected import API_KEY, PATH, directory, material, protected
from helpers import configuration
from tamarack.core.balancing.breaker import BreakerRules
from tamarack.core.balancing.capacity import Capacity, CapacityRules
from tamarack.core.balancing.routes import route_to
from tamarack.core.balancing.target_state import TargetStates
from tamarack.core.carrying.parts import Reply
from tamarack.core.carrying.refusals import Refusal
from tamarack.core.configuration.backend import Backend
from tamarack.core.configuration.model import Configuration
from tamarack.core.configuration.snapshot import compile_snapshot
from tamarack.core.told.trace import Trace

RESERVED, OVER = "http://127.0.0.1:9001", "http://127.0.0.1:9002"
TARGETS: list[dict[str, Any]] = [{"address": RESERVED}, {"address": OVER, "priority": 1}]
BUSY = (429, [JSON, (b"retry-after", b"7")], (b'{"detail": "too many tokens"}',))
GOOD = (200, [JSON], (told(),))


def behind(*policies: dict[str, Any], **backend: Any) -> Chats:
    """Chats with two targets, the second for what is over."""
    made = protected(API_KEY, {"kind": "token-count"}, *policies)
    given = {"name": "timetable", "targets": TARGETS, "turned_away": "ask the next target"} | backend
    whole = Configuration.model_validate(made.model_dump() | {"backends": [given]})
    snapshot = compile_snapshot(whole, "production", lambda sha256: {})
    route = route_to(snapshot.backends[0], TargetStates())
    chats = Chats(made=whole, choices=route.choices)
    operation = chats.bed.operation("POST", PATH)
    operation.route = route
    return chats


def labels(chats: Chats) -> list[str]:
    """The targets, as records call them."""
    route = chats.bed.operation("POST", PATH).route
    assert route is not None
    return [choice.target.label for choice in route.choices]


SPARING = {"breaker": BreakerRules(in_a_row=0, share=0, heed_retry_after=True).model_dump()}


def test_what_the_reserved_target_turns_away_goes_to_the_next_and_comes_back_when_its_time_is_over() -> None:
    chats = behind(**SPARING)
    first, second = labels(chats)
    chats.answers = {first: [GOOD, BUSY, GOOD], second: [GOOD, GOOD]}
    for at in (0, 1, 2, 9):
        assert chats.ask(asking(), now=NOW + at).status == 200
    assert [label for label, _ in chats.sent] == [first, first, second, second, first]
    assert chats.used() == (10, 20)


def test_the_record_says_what_was_turned_away_and_what_was_passed_over() -> None:
    chats = behind(**SPARING)
    first, second = labels(chats)
    chats.answers = {first: [BUSY], second: [GOOD, GOOD]}
    chats.ask(asking())
    assert (chats.call.target, chats.call.retried) == (second, 1)
    assert chats.call.note == f"asked again: {first} answered 429"
    chats.ask(asking(), now=NOW + 1)
    assert (chats.call.target, chats.call.note) == (second, f"{first} was passed over for one of priority 1")


def test_where_all_turn_a_call_away_the_caller_hears_the_last() -> None:
    chats = behind()
    outcome = chats.ask(asking(), status=429, fields=[JSON, (b"retry-after", b"9")])
    assert outcome.status == 429 and b"retry-after: 9" in outcome.fields
    assert len(chats.sent) == 2


@pytest.mark.parametrize(("status", "fields"), [(503, []), (500, []), (400, []), (404, [])])
def test_other_failures_are_not_asked_again_for_something_may_have_been_done(status: int, fields: list[Any]) -> None:
    chats = behind()
    assert chats.ask(asking(), status=status, fields=[JSON, *fields]).status == status
    assert len(chats.sent) == 1


def test_without_being_told_to_nothing_goes_on() -> None:
    chats = behind(turned_away="answer the caller")
    assert chats.ask(asking(), status=429).status == 429
    assert len(chats.sent) == 1


def test_a_model_is_asked_for_by_the_name_that_its_target_has_for_it() -> None:
    chats = behind(models=["notices = quay-notices-1", f"notices = quay-fast at {OVER}", f"long = quay-long at {OVER}"])
    first, second = labels(chats)
    chats.answers = {first: [BUSY, GOOD], second: [GOOD, GOOD]}
    assert chats.ask(asking(model="notices")).status == 200
    assert [(label, body["model"]) for label, body in chats.sent] == [(first, "quay-notices-1"), (second, "quay-fast")]
    assert chats.call.prompt.model == "notices"
    chats.ask(asking(model="long"))
    assert (chats.sent[-1][0], chats.sent[-1][1]["model"]) == (second, "quay-long")
    refusal = chats.ask(asking(model="none"))
    assert isinstance(refusal, Refusal) and refusal.reason.code == "unknown-model"


def test_only_models_that_a_plan_opens_are_carried_and_listed() -> None:
    policy = {"kind": "models", "offered": ["notices", "long: cutter", "longer: passage/skiff"]}
    chats = behind(policy)
    assert chats.ask(asking(model="notices"), told()).status == 200
    assert chats.ask(asking(model="longer"), told()).status == 200
    refusal = chats.ask(asking(model="long"))
    assert isinstance(refusal, Refusal)
    assert (refusal.reason.code, refusal.policy) == ("model-not-open", "models")
    assert "'long' is not open" in refusal.detail and "notices and longer" in refusal.detail
    refusal = chats.ask(b"{}")
    assert isinstance(refusal, Refusal)
    assert refusal.reason.code == "unknown-model" and "asks for no model" in refusal.detail


def test_the_list_of_models_is_what_the_caller_may_ask_for() -> None:
    policies = [API_KEY, {"kind": "models", "offered": ["notices", "long: cutter", "longer: skiff"]}]
    calls = [{"call": "get /models"}, {"call": "get /models/{model}"}]
    bed = Bed(configuration(version={"policies": policies, "operations": calls}), directory(), material())
    key = [(b"x-skerry-key", b"tmk_good")]
    outcome = carry(bed.call("GET", b"/sailings/v2/models", headers=key))
    assert isinstance(outcome, Reply)
    assert b'"id": "notices"' in outcome.body and b'"longer"' in outcome.body and b'"long"' not in outcome.body
    assert isinstance(carry(bed.call("GET", b"/sailings/v2/models/longer", headers=key)), Reply)
    refusal = carry(bed.call("GET", b"/sailings/v2/models/long", headers=key))
    assert isinstance(refusal, Refusal) and refusal.reason.code == "unknown-model"


def test_a_target_whose_minute_is_full_is_passed_over_and_the_last_of_it_is_kept_for_some_plans() -> None:
    reserved = [{"address": RESERVED, "capacity": 100}, TARGETS[1]]
    chats = behind(targets=reserved)
    for at in (0, 1, 2, 61):
        chats.ask(asking("1", max_tokens=10), told(prompt=20, completion=30), now=NOW + at)
    assert [label.rpartition(":")[2] for label, _ in chats.sent] == ["9001", "9001", "9002", "9001"]
    mine = behind(targets=reserved, kept_for=["passage/skiff"], kept_from=40)
    theirs = behind(targets=reserved[:1], kept_for=["notices/liner"], kept_from=40)
    for at in (0, 1):
        mine.ask(asking("1", max_tokens=10), told(prompt=20, completion=30), now=NOW + at)
        outcome = theirs.ask(asking("1", max_tokens=10), told(prompt=20, completion=30), now=NOW + at)
    assert [label.rpartition(":")[2] for label, _ in mine.sent] == ["9001", "9001"]
    assert isinstance(outcome, Refusal)
    assert outcome.reason.code == "capacity-kept" and 1 <= int(dict(outcome.headers)[b"retry-after"]) <= 60


@given(sent=st.lists(st.tuples(st.integers(0, 300), st.integers(0, 50), st.integers(-60, 60)), max_size=40).map(sorted))
def test_a_minute_counts_what_was_sent_in_it_as_it_was_settled(sent: list[tuple[int, int, int]]) -> None:
    capacity = Capacity(CapacityRules(100))
    by_minute: dict[int, int] = {}
    for at, tokens, more in sent:
        now = 60_000.0 + at
        capacity.sent(now, tokens)
        capacity.settled(now, more)
        minute = int(now) // 60
        by_minute[minute] = max(0, by_minute.get(minute, 0) + tokens + more)
        assert capacity.used(now) == by_minute[minute]
        assert capacity.has_room(now, 1) == (by_minute[minute] == 0 or by_minute[minute] < 100)


@pytest.mark.parametrize(
    ("backend", "words"),
    [
        ({"models": ["a b c"]}, "is no model"),
        ({"models": ["a = b", "a = c"]}, "'a' is there twice for the same targets"),
        ({"models": ["a = b at http://127.0.0.1:1"]}, "names a target that is not there"),
        ({"kept_for": ["passage/skiff"]}, "no target says its capacity"),
        ({"kept_for": ["skiff"]}, "write its product and its name"),
    ],
)
def test_what_cannot_be_is_told(backend: dict[str, Any], words: str) -> None:
    with pytest.raises(ValueError, match="1 validation error") as wrong:
        Backend.model_validate({"name": "announcer", "targets": TARGETS} | backend)
    assert words in str(wrong.value)


def test_a_trace_shows_each_target_that_was_asked() -> None:
    chats = behind()
    first, second = labels(chats)
    chats.answers = {first: [BUSY], second: [GOOD]}
    trace = Trace(iter(range(10**9)).__next__)
    chats.ask(asking(), trace=trace)
    told_of = [entry.text for entry in trace.entries if entry.title.startswith("Attempt")]
    assert any(first in text for text in told_of) and any(second in text for text in told_of)
