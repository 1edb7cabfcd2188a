"""Requests and answers held against the description: refused with every problem, counted, or held back."""

import json
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from core.carried import Bed, carry, sends
from helpers import configuration, material
from tamarack.core.balancing.route import Choice, Route
from tamarack.core.carrying.forwarding import Passed
from tamarack.core.carrying.refusals import Refusal
from tamarack.core.http.heads import Answered
from tamarack.core.http.target import target_at
from tamarack.core.identity.callers import CallerDirectory
from tamarack.core.policies import kind_of
from tamarack.core.policies.returns.answer_check import AnswerCheck
from tamarack.core.stages import Stage

TARGET = target_at("http://127.0.0.1:9", 1000, 1000)
SAILING = {"type": "object", "required": ["ship", "day"], "additionalProperties": False,
           "properties": {"ship": {"type": "string"}, "day": {"type": "string", "format": "date"}}}  # fmt: skip
DOCUMENT: dict[str, Any] = {
    "openapi": "3.1.0",
    "components": {"schemas": {"Sailing": SAILING}},
    "paths": {
        "/sailings/{id}": {
            "parameters": [{"name": "id", "in": "path", "required": True, "schema": {"pattern": "^[A-Z]-[0-9]+$"}}],
            "put": {
                "parameters": [
                    {"name": "limit", "in": "query", "required": True, "schema": {"type": "integer", "maximum": 50}},
                    {"name": "X-Ship", "in": "header", "schema": {"enum": ["lark", "wren"]}},
                    {"name": "tags", "in": "query", "schema": {"type": "array", "items": {"type": "integer"}}},
                ],
                "requestBody": {
                    "required": True,
                    "content": {"application/json": {"schema": {"$ref": "#/components/schemas/Sailing"}}},
                },
                "responses": {
                    "200": {
                        "headers": {"X-Total": {"required": True, "schema": {"type": "integer"}}},
                        "content": {"application/json": {"schema": {"$ref": "#/components/schemas/Sailing"}}},
                    },
                    "4XX": {"content": {"application/problem+json": {}}},
                },
            },
        }
    },
}
GOOD = {"ship": "lark", "day": "2026-12-01"}
BACK = [(b"content-type", b"application/json"), (b"x-total", b"1")]


def bed(*policies: dict[str, Any]) -> Bed:
    version = {"document": "d" * 64, "policies": [{"kind": "open"}, *policies],
               "operations": [{"call": "put /sailings/{id}"}, {"call": "get /bare"}]}  # fmt: skip
    made = configuration(version=version)
    routes = {"timetable": Route((Choice(TARGET),))}
    return Bed(
        made, CallerDirectory(bytes(32), "production"), material(), documents=lambda sha: DOCUMENT, routes=routes
    )


def sent(
    policy: dict[str, Any], query: bytes = b"limit=5", body: Any = GOOD, id: bytes = b"G-1", fields: Any = (),
    status: int = 200, headers: Any = BACK, answer: bytes = json.dumps(GOOD).encode(),
) -> tuple[Any, Any]:  # fmt: skip
    """A call and how it ends, with the backend answering as given."""
    data = body if isinstance(body, bytes) else json.dumps(body).encode()
    own = [(b"content-type", b"application/json"), *fields]
    call = bed(policy).call("PUT", b"/sailings/v2/sailings/" + id, query, own)
    sends(call, data)
    outcome = carry(call, backend=lambda ask, sent: (Answered(status, list(headers), answer), ()))
    return call, outcome


def wrong(policy: dict[str, Any], **made: Any) -> list[str]:
    """What is found not to fit, one a line."""
    call, _ = sent(policy, **made)
    return [str(one) for one in call.misfits]


REFUSES = {"kind": "request-check"}
NOTES = {"kind": "request-check", "otherwise": "pass it on and count it"}
ANSWERS = {"kind": "answer-check"}


def test_what_fits_passes_and_nothing_is_noted() -> None:
    for policy in (REFUSES, NOTES, ANSWERS):
        call, outcome = sent(policy, fields=[(b"x-ship", b"wren")], query=b"limit=50&tags=1&tags=2")
        assert isinstance(outcome, Passed) and call.misfits == ()


@pytest.mark.parametrize(
    ("made", "said"),
    [
        ({"query": b""}, "query limit is required, and missing"),
        ({"query": b"limit=x"}, "query limit must be a whole number"),
        ({"query": b"limit=51"}, "query limit must be at most 50"),
        ({"query": b"limit=1&limit=2"}, "query limit must be a whole number"),
        ({"query": b"limit=1&tags=1&tags=x"}, "query tags /1 must be a whole number"),
        ({"query": b"limit=%31&tags=1"}, ""),
        ({"id": b"g-1"}, "path id must match ^[A-Z]-[0-9]+$"),
        ({"id": b"G%2D1"}, ""),
        ({"fields": [(b"x-ship", b"swan")]}, "header x-ship must be one of lark, wren"),
        ({"body": b""}, "body is required, and missing"),
        ({"body": b"{"}, "body is not JSON"),
        ({"body": {"ship": 1, "day": "2026-12-01"}}, "body /ship must be text"),
        ({"body": GOOD | {"crew": []}}, "body /crew is not described"),
        ({"fields": [(b"content-encoding", b"gzip")]}, "body is compressed, and cannot be checked"),
    ],
)
def test_each_thing_that_does_not_fit_is_found_and_refused(made: dict[str, Any], said: str) -> None:
    assert wrong(NOTES, **made) == ([said] if said else [])
    _, outcome = sent(REFUSES, **made)
    assert isinstance(outcome, Refusal if said else Passed)


def test_a_refusal_lists_every_problem_by_its_place() -> None:
    call, outcome = sent(REFUSES, query=b"limit=x", body={"ship": 1})
    assert isinstance(outcome, Refusal) and outcome.reason.code == "misfit-request"
    told = json.loads(b'{"status": 400' + outcome.members + b"}")["errors"]
    assert sorted(told, key=str) == [
        {"detail": "is required, and missing", "pointer": "#/day"},
        {"detail": "must be a whole number", "in": "query", "parameter": "limit"},
        {"detail": "must be text", "pointer": "#/ship"},
    ]
    assert "query limit" in outcome.note and len(call.misfits) == 3


@pytest.mark.parametrize(
    ("unknown", "refused", "noted"),
    [("pass it on and count it", False, 1), ("the same", True, 1), ("leave it alone", False, 0)],
)
def test_what_is_not_described_is_noted_refused_or_left_alone(unknown: str, refused: bool, noted: int) -> None:
    call, outcome = sent(REFUSES | {"unknown": unknown}, query=b"limit=1&colour=red")
    assert isinstance(outcome, Refusal) is refused
    assert [str(one) for one in call.misfits] == ["query colour is not described"] * noted


def test_a_credential_that_was_taken_off_is_not_missed() -> None:
    document = json.loads(json.dumps(DOCUMENT))
    document["paths"]["/sailings/{id}"]["put"]["parameters"] = [
        {"name": name, "in": place, "required": True, "schema": {"type": "string"}}
        for name, place in (("X-Key", "header"), ("key", "query"))
    ]
    policy = {"kind": "api-key", "header": "X-Key", "query": "key"}
    made = configuration(version={"document": "d" * 64, "policies": [policy, NOTES],
                                  "operations": [{"call": "put /sailings/{id}"}]})  # fmt: skip
    on = Bed(made, CallerDirectory(bytes(32), "production"), material(), documents=lambda sha: document)
    operation = on.operation("PUT", b"/sailings/v2/sailings/G-1")
    call = on.call("PUT", b"/sailings/v2/sailings/G-1")
    [check] = [step.step for step in operation.named if step.stage is Stage.SHAPE]
    assert check is not None and check(call) is None
    assert [str(one) for one in call.misfits] == ["body is required, and missing"]


@pytest.mark.parametrize(
    ("made", "said"),
    [
        ({"status": 201}, "status 201 is not described"),
        ({"status": 404, "headers": [(b"content-type", b"application/problem+json")], "answer": b"{}"}, ""),
        ({"status": 404, "headers": [(b"content-type", b"text/html")], "answer": b"x"},
         "body of the type text/html is not described; these are: application/problem+json"),
        ({"headers": BACK[:1]}, "header x-total is required, and missing"),
        ({"headers": [BACK[0], (b"x-total", b"many")]}, "header x-total must be a whole number"),
        ({"answer": b'{"ship": "lark"}'}, "body /day is required, and missing"),
        ({"answer": b"{"}, "body is not JSON"),
        ({"answer": b"x" * 2_000_000}, ""),
    ],
)  # fmt: skip
def test_answers_are_noted_or_held_back(made: dict[str, Any], said: str) -> None:
    assert wrong(ANSWERS, **made) == ([said] if said else [])
    _, outcome = sent(ANSWERS | {"otherwise": "answer 502"}, **made)
    if said:
        assert isinstance(outcome, Refusal) and outcome.reason.code == "misfit-answer"
        assert said in outcome.note and not outcome.members and not outcome.detail  # for staff alone
    else:
        assert isinstance(outcome, Passed)


def test_it_holds_only_for_calls_that_it_is_meant_for() -> None:
    for policy in (NOTES, ANSWERS):
        when = policy | {"when": ["query trial equals yes"]}
        assert wrong(when, query=b"", answer=b"{") == []
        assert wrong(when, query=b"trial=yes", answer=b"{") != []


def test_an_operation_without_a_description_is_carried_as_ever() -> None:
    call = bed(REFUSES, ANSWERS).call("GET", b"/sailings/v2/bare", b"x=1")
    outcome = carry(call, backend=lambda ask, sent: (Answered(200, [], b"{"), ()))
    assert isinstance(outcome, Passed) and call.misfits == ()


def test_a_body_larger_than_is_checked_is_refused_where_misfits_are() -> None:
    large = json.dumps(GOOD | {"ship": "x" * 3_000}).encode()
    _, outcome = sent(REFUSES | {"at_most": "2 kB"}, body=large)
    assert isinstance(outcome, Refusal) and outcome.reason.code == "too-large"
    call, outcome = sent(NOTES | {"at_most": "2 kB"}, body=large)
    assert isinstance(outcome, Passed) and call.misfits == ()


@settings(max_examples=150)
@given(
    query=st.binary(max_size=60), body=st.binary(max_size=80), id=st.binary(max_size=10), field=st.binary(max_size=20)
)
def test_whatever_is_sent_is_answered_and_what_is_told_of_it_is_one_line(
    query: bytes, body: bytes, id: bytes, field: bytes
) -> None:
    call = bed(REFUSES | {"unknown": "the same"}).call(
        "PUT", b"/sailings/v2/sailings/x", query, [(b"content-type", b"application/json"), (b"x-ship", field)]
    )
    sends(call, body)
    outcome = carry(call, backend=lambda ask, sent: (Answered(200, [], b""), ()))
    assert isinstance(outcome, Refusal)
    json.loads(b'{"a": 1' + outcome.members + b"}")
    assert all("\n" not in str(one) and "\x00" not in str(one) for one in call.misfits)


@pytest.mark.parametrize(
    ("otherwise", "said"),
    [("pass it on and count it", "is counted."), ("answer 502", "is held back, and answered 502.")],
)
def test_the_sentence_of_an_answer_check_says_what_it_does(otherwise: str, said: str) -> None:
    policy = AnswerCheck.model_validate({"kind": "answer-check", "otherwise": otherwise})
    assert kind_of(policy).sentence(policy).endswith(said)
