"""On error: chosen refusals and failures answered another way, with the call id and what they carry kept."""

import json
from typing import Any

import pytest
from pydantic import ValidationError

from core.carried import Bed, carry, run
from core.protected import API_KEY, directory
from helpers import configuration, material
from tamarack.core.carrying.parts import Reply
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.policies.on_error.error_answer import ErrorAnswer
from tamarack.core.told.problems import Problems
from tamarack.core.told.trace import Trace

XML = {
    "media": "application/xml",
    "body": "<error code='{{ error.reason }}' call='{{ call.id }}'>{{ error.detail }}</error>",
}
LIMIT = {"kind": "rate-limit", "windows": ["1 per minute"]}


def told(*policies: dict[str, Any], calls: int = 1, trace: Any = None, **call: Any) -> tuple[Reply, Any]:
    """What the caller is told of the last of some calls, and the call."""
    made = configuration(version={"policies": [API_KEY, *policies]})
    bed = Bed(made, directory(), material())
    for _ in range(calls):
        last = bed.call("GET", b"/sailings/v2/sailings", **call)
        last.trace = trace
        outcome = run(last)
    assert isinstance(outcome, Refusal)
    return Problems("http://portal.example").reply(outcome, last), last


def error(**policy: Any) -> dict[str, Any]:
    return {"kind": "error-answer"} | policy


def test_a_refusal_is_answered_as_it_is_typed_and_recorded_as_it_was() -> None:
    reply, call = told(error(**XML))
    assert reply.status == 401
    assert reply.body.startswith(
        b"<error code='no-credential' call='c1'>This operation needs a credential and the call"
    )
    assert reply.body.endswith(b"</error>")
    assert b"content-type: application/xml\r\n" in reply.fields
    assert b"www-authenticate: " in reply.fields
    assert call.reason == "no-credential"


def test_what_others_say_stays_what_it_was() -> None:
    plain, _ = told()
    for policy in (
        error(of=["5xx"], **XML),
        error(of=["over-rate"], **XML),
        error(when=["query old is present"], **XML),
    ):
        reply, _ = told(policy)
        assert (reply.status, reply.body, reply.fields) == (plain.status, plain.body, plain.fields)


def test_the_first_that_is_for_it_answers_and_a_status_alone_keeps_the_problem() -> None:
    reply, _ = told(error(of=["over-rate"], status=503, name="busy"), error(**XML), LIMIT, calls=2,
                    headers=[(b"x-skerry-key", b"tmk_good")])  # fmt: skip
    assert reply.status == 503
    problem = json.loads(reply.body)
    assert (problem["reason"], problem["status"]) == ("over-rate", 503)
    assert problem["call_id"] == "c1"
    assert b"retry-after: " in reply.fields
    assert b"content-type: application/problem+json\r\n" in reply.fields


def test_values_in_markup_stay_values() -> None:
    bed_call = {"query": b"q=%3Cb%3E"}
    reply, _ = told(error(media="text/html", body="<p>{{ query.q }}</p>"), **bed_call)
    assert reply.body == b"<p>&lt;b&gt;</p>"


def test_a_text_that_fails_leaves_the_problem() -> None:
    plain, _ = told()
    reply, _ = told(error(body="{{ error.detail | nothing_like_it }}"))
    assert reply.body == plain.body


def test_a_trace_says_that_it_was_answered_another_way() -> None:
    trace = Trace(lambda: 0)
    told(error(status=418), trace=trace)
    assert [(one.stage, one.text) for one in trace.entries][-1] == ("on-error", "no-credential answered 418")


@pytest.mark.parametrize(
    ("of", "many"),
    [
        (["all"], len(REASONS)),
        (["5xx", "over-rate"], sum(r.status >= 500 for r in REASONS.values()) + 1),
        (["closed"], 1),
    ],
)
def test_reasons_are_named_one_by_one_or_by_class(of: list[str], many: int) -> None:
    assert len(ErrorAnswer.model_validate({"of": of, "status": 500}).codes) == many


@pytest.mark.parametrize(
    ("wrong", "words"),
    [
        ({}, "it would change nothing"),
        ({"of": ["nothing"], "status": 500}, "'nothing' is no reason"),
        ({"status": 204}, "cannot be the status of an error with a body"),
        ({"status": 99}, "cannot be the status"),
        ({"body": "{{ errors.x }}"}, "is not known of a call"),
        ({"headers": ["Content-Length: 3"]}, "written by the gateway|a meaning of its own"),
    ],
)
def test_what_cannot_be_is_refused_in_words(wrong: dict[str, Any], words: str) -> None:
    with pytest.raises(ValidationError, match=words):
        ErrorAnswer.model_validate(wrong)


def test_answers_of_the_backend_are_not_its_business() -> None:
    made = configuration(version={"policies": [{"kind": "open"}, error(**XML)]})
    call = Bed(made, directory(), material()).call("GET", b"/sailings/v2/sailings")
    assert not isinstance(carry(call), Refusal)
