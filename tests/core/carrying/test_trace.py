"""Traces, the story of a call, and whether a call would pass: the same steps, told."""

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from core.carried import run_traced
from core.carrying.test_permit import ADDRESSES, CLAIMS, GROUPS, SCOPES
from core.protected import (
    API_KEY,
    CLIENT,
    JWT,
    NOW,
    SIGNED,
    bearer,
    call_on,
    decided,
    directory,
    protected,
    signed_key,
    token,
)
from core.traffic.test_traffic import record
from helpers import configuration
from tamarack.core.told.refused_by import refused_by
from tamarack.core.told.story import story
from tamarack.core.told.trace import Entry, Vouched, as_data, shown_headers
from tamarack.core.told.would_pass import would_pass
from tamarack.core.trying.ticket import Ticket, read_ticket, write_ticket

LIMIT = {"kind": "rate-limit", "name": "steady", "windows": ["5 per minute"]}
EVERY = (API_KEY, CLIENT, JWT, SIGNED)


def traced(call: Any, vouched: Vouched | None = None) -> tuple[str, dict[str, Entry]]:
    refusal, entries = run_traced(call, iter(range(0, 10**9, 1000)).__next__, vouched)
    return refusal.reason.code if refusal else "", {entry.title: entry for entry in entries}


def test_a_trace_says_what_each_policy_read_changed_and_decided_with_secrets_masked() -> None:
    made = protected(*EVERY, GROUPS, CLAIMS, ADDRESSES, LIMIT)
    outcome, entries = traced(call_on(made, bearer(token()), ("accept", "text/plain")))
    assert outcome == ""
    identified = entries["Harbour office"]
    assert (identified.verdict, identified.policy, identified.placement) == (
        "identified",
        "harbour-office",
        "sailings/2",
    )
    assert identified.text == "harbour-control/berth-board for the end user duty.master"
    assert ("azp", "berth-board") in identified.reads
    assert [name for name, _ in identified.changes] == ["removed authorization"]
    assert [entries[name].verdict for name in ("API key", "Signed key", "Client id and secret")] == ["not shown"] * 3
    assert entries["Groups"].reads == [("groups", "harbour")]
    assert entries["Steady"].reads == [("counted for", "harbour-control/berth-board")]
    assert "4 left of 5 per minute" in entries["Steady"].text
    assert identified.us == 1.0
    assert token().decode() not in str(as_data(list(entries.values())))


@pytest.mark.parametrize(
    ("shown", "query"),
    [((("x-skerry-key", "tmk_good"),), b""), ((), b"key=tmk_good"), ((("x-id", "tmc_good"), ("x-secret", "tms_good")), b""),
     ((bearer(signed_key()),), b"")],
)  # fmt: skip
def test_no_credential_is_ever_in_a_trace(shown: Any, query: bytes) -> None:
    _, entries = traced(call_on(protected(*EVERY), *shown, query=query))
    said = str(as_data(list(entries.values())))
    assert "good" not in said.replace("tmc_good", "")  # a client id is no secret
    assert "eyJ" not in said


@pytest.mark.parametrize("name", ["x-backend-token", "X-Api-Secret", "authorization", "cookie", "x-session-id"])
def test_fields_that_look_like_credentials_are_masked_though_no_policy_names_them(name: str) -> None:
    shown = dict(shown_headers([(name.encode(), b"hidden"), (b"accept", b"text/plain")], frozenset()))
    assert shown == {name: "•••• (6 characters)", "accept": "text/plain"}


def test_the_first_refusal_ends_the_trace_and_names_the_rule() -> None:
    outcome, entries = traced(call_on(protected(JWT, GROUPS, SCOPES, LIMIT), bearer(token()), known=directory(())))
    assert outcome == "not-in-group"
    assert entries["Groups"].verdict == "refused"
    assert entries["Groups"].text == "the group harbour is asked for"
    assert [entries[name].verdict for name in ("Scopes", "Steady")] == ["not reached"] * 2


SHOWN = st.lists(
    st.sampled_from([bearer(token()), bearer(token(scope="")), bearer(b"rubbish"), ("x-skerry-key", "tmk_good"),
                     ("x-skerry-key", "tmk_bad")]),
    max_size=2,
)  # fmt: skip


@given(shown=SHOWN, policies=st.permutations([GROUPS, SCOPES, CLAIMS, ADDRESSES, LIMIT]), taken=st.integers(0, 5))
def test_a_traced_call_is_decided_like_any_other(shown: Any, policies: list[Any], taken: int) -> None:
    made = protected(API_KEY, JWT, *policies[:taken])
    assert traced(call_on(made, *shown))[0] == decided(call_on(made, *shown))


def test_the_bench_vouches_for_a_caller_and_everything_after_that_decides_as_ever() -> None:
    known = directory()
    application = known.application("harbour-control/berth-board")
    assert application is not None
    assert application is known.application("a")
    made = protected(JWT, GROUPS, CLAIMS)
    outcome, entries = traced(call_on(made, known=known), Vouched(application, {"groups": ["harbour-staff"]}, "isla"))
    assert outcome == ""
    assert "by isla" in entries["Bench"].text
    assert traced(call_on(made, known=known), Vouched(application, {"groups": []}, "isla"))[0] == "claim-missing"
    closed = protected(operation=())
    assert traced(call_on(closed, known=known), Vouched(application))[0] == "closed"
    paused = {"name": "berth-board", "organization": "harbour-control", "paused": True}
    known.apply("application", "a", paused)
    assert traced(call_on(made, known=known), Vouched(application))[0] == "application-paused"


FEED: list[tuple[str, str, dict[str, Any] | None]] = [
    ("application", "a", {"name": "kiosk", "organization": "ticket-office", "paused": False, "groups": ["harbour"]}),
    ("subscription", "s", {"application": "a", "product": "passage", "plan": "skiff", "state": "active",
                           "environment": "production"}),
]  # fmt: skip


@pytest.mark.parametrize(
    ("method", "path", "application", "environment", "reason"),
    [
        ("GET", b"/sailings/v2/sailings", "a", "production", ""),
        ("GET", b"/sailings/v2/sailings", "a", "test", "not-subscribed"),
        ("GET", b"/sailings/v2/sailings", "", "production", "no-credential"),
        ("DELETE", b"/sailings/v2/sailings", "a", "production", "wrong-method"),
        ("GET", b"/nothing", "a", "production", "unknown-path"),
        ("GET", b"/sailings/../x", "a", "production", "bad-path"),
    ],
)
def test_would_it_pass(method: str, path: bytes, application: str, environment: str, reason: str) -> None:
    outcome = would_pass(
        protected(API_KEY, GROUPS), environment, FEED, method, path, application, NOW, iter(range(10**6)).__next__
    )
    assert (outcome.refusal.reason.code if outcome.refusal else "") == reason
    assert outcome.passes is (not reason)


TICKET = Ticket("production", "a-node", "n1", "isla", NOW + 20, "a", {"groups": ["crew"]})
KEY = bytes(32)


def test_a_ticket_is_read_only_where_and_while_it_is_good() -> None:
    value = write_ticket(TICKET, KEY).encode()
    assert read_ticket(value, KEY, "production", "a-node", NOW) == TICKET
    assert read_ticket(value, bytes(range(32)), "production", "a-node", NOW) is None
    assert read_ticket(value, KEY, "test", "a-node", NOW) is None
    assert read_ticket(value, KEY, "production", "another", NOW) is None
    assert read_ticket(value, KEY, "production", "a-node", NOW + 21) is None
    for wrong in (b"", b"x", b".", value[:-3], b"a" * 7000, value.replace(b".", b""), b"\xff." + value):
        assert read_ticket(wrong, KEY, "production", "a-node", NOW) is None
    for_ever = write_ticket(Ticket("production", "a-node", "n", "x", NOW + 9e9), KEY).encode()
    assert read_ticket(for_ever, KEY, "production", "a-node", NOW) is None


def test_a_story_tells_who_what_why_and_names_the_rule() -> None:
    _, entries = run_traced(call_on(protected(JWT, GROUPS), bearer(token()), known=directory(())), lambda: 0)
    refused = record(1, status=403, reason="not-in-group", target="")
    sentences = " ".join(story(refused, trace={"by": "isla", "entries": as_data(entries), "note": ""}))
    for part in ("from the bench by isla", "Groups (`groups`, placed on sailings/2) refused it: the group harbour is asked for",
                 "answered 403", "The backend was not asked"):  # fmt: skip
        assert part in sentences
    passed = " ".join(story(record(1, status=200, reason="", target="127.0.0.1:1")))
    assert "passed every policy" in passed
    assert "The backend answered 200" in passed
    assert "went away" in " ".join(story(record(1, status=499, reason="", target="")))
    assert "not identified" in " ".join(story(record(1, application="", organization="")))


@pytest.mark.parametrize(
    ("changes", "told"),
    [
        ({"reason": "not-in-group", "policy": "groups", "note": "the group harbour is asked for"},
         "Groups (`groups`, placed on sailings/2) refused it: the group harbour is asked for."),
        ({"reason": "over-rate", "policy": "steady", "note": "5 per minute used up"},
         "Steady (`steady`, placed on everywhere) refused it: 5 per minute used up."),
        ({"reason": "over-plan", "policy": "skiff", "plan": "passage/skiff", "note": "5 per second used up"},
         "The plan `passage/skiff` refused it: 5 per second used up."),
        ({"reason": "over-capacity", "policy": "platform"}, "The platform's cap refused it."),
        ({"reason": "no-credential", "policy": "harbour-office, api-key", "note": "a key is asked for"},
         "Harbour office (`harbour-office`, placed on sailings/2) or API key (`api-key`, placed on sailings/2) refused it"),
        ({"reason": "over-rate", "policy": "gone", "note": "5 per minute used up"}, "`gone` refused it: 5 per minute"),
        ({"reason": "backend-away", "target": "127.0.0.1:1", "note": "took no connection: refused"},
         "It went wrong: took no connection: refused."),
    ],
)  # fmt: skip
def test_a_story_names_what_refused_a_call_without_a_trace_too(changes: dict[str, Any], told: str) -> None:
    made = configuration(everywhere=[LIMIT], version={"policies": [JWT, API_KEY, GROUPS]})
    refused = record(1, api="sailings", version="2", operation="get /sailings", **{"target": ""} | changes)
    assert told in " ".join(story(refused, refused_by(made, refused)))
