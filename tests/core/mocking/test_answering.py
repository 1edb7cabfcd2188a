"""Mocks and fixed answers in a program: which answer a call is given, and what is never reached for it."""

from collections import Counter
from typing import Any

import pytest
from pydantic import TypeAdapter

from core.carried import NOW, Bed, carry, sends
from core.protected import API_KEY, PATH, directory, material
from helpers import configuration
from tamarack.core.carrying.parts import Reply
from tamarack.core.carrying.refusals import Refusal
from tamarack.core.configuration.model import check
from tamarack.core.configuration.review import risks
from tamarack.core.mocking.documented import DocumentedAnswer
from tamarack.core.policies import AnyPolicy
from tamarack.core.policies.answer.mock import parse_rule

KEY = (b"x-skerry-key", b"tmk_good")
ANSWERS = [
    DocumentedAnswer(status=200, media="application/json", body='{"usual": 1}', fields=(("x-left", "7"),)),
    DocumentedAnswer(status=200, media="application/json", name="full", body='{"full": 1}'),
    DocumentedAnswer(status=404, media="application/json", body='{"title": "None"}'),
    DocumentedAnswer(status=503, media="text/plain", body="closed"),
]


class Answering:
    """A program with policies of the stage Answer; its operation documents `ANSWERS`."""

    def __init__(self, *policies: dict[str, Any], documented: bool = True) -> None:
        operations = [{"call": "post /sailings"}]
        made = configuration(version={"policies": [API_KEY, *policies], "operations": operations, "backend": ""})
        self.bed = Bed(made, directory(), material(), clock=iter(range(10**9)).__next__)
        operation = self.bed.operation("POST", PATH)
        if documented:
            from tamarack.core.mocking.choosing import Answers

            operation.mocks = Answers(ANSWERS)

    def ask(
        self, *headers: tuple[bytes, bytes], query: bytes = b"", body: bytes = b"", now: float = NOW, id: bytes = b"c1"
    ) -> Any:
        call = self.bed.call("POST", PATH, query=query, headers=[KEY, *headers], now=now)
        call.id = id
        sends(call, body)
        return carry(call)


def mocked(*rules: str, **fields: Any) -> Answering:
    return Answering({"kind": "mock", "rules": list(rules), **fields})


@pytest.mark.parametrize(
    ("rules", "call", "status", "body"),
    [
        ((), {}, 200, b'{"usual": 1}'),
        (("query port equals HBR -> 404",), {"query": b"port=HBR"}, 404, b'{"title": "None"}'),
        (("query port equals HBR -> 404",), {"query": b"port=STR"}, 200, b'{"usual": 1}'),
        (("query a is present and query b is absent -> example full", "query a is present -> 404"), {"query": b"a=1"}, 200,
         b'{"full": 1}'),
        (("query a is present and query b is absent -> example full", "query a is present -> 404"),
         {"query": b"a=1&b=1"}, 404, b'{"title": "None"}'),
        (('body /cars is more than 6 -> 422 {"title": "Too long"}',), {"body": b'{"cars": 7}'}, 422,
         b'{"title": "Too long"}'),
        (("query a is present -> 418",), {"query": b"a=1"}, 418, b""),
    ],
)  # fmt: skip
def test_the_first_rule_that_holds_chooses_else_the_lowest_documented_success(
    rules: tuple[str, ...], call: dict[str, Any], status: int, body: bytes
) -> None:
    reply = mocked(*rules).ask(**call)
    assert isinstance(reply, Reply)
    assert (reply.status, reply.body) == (status, body)


def test_a_mock_sends_the_documented_fields() -> None:
    assert mocked().ask().fields == b"x-left: 7\r\ncontent-type: application/json\r\n"


def test_callers_choose_only_where_they_may_and_only_what_is_there() -> None:
    prefer = (b"prefer", b"code=404")
    assert mocked().ask(prefer).status == 200
    reply = mocked(callers_choose=True).ask(prefer)
    assert (reply.status, b"preference-applied: code=404\r\nvary: prefer\r\n" in reply.fields) == (404, True)
    assert mocked(callers_choose=True).ask((b"prefer", b"example=full")).body == b'{"full": 1}'
    assert mocked(callers_choose=True).ask((b"prefer", b"code=418")).status == 200


def test_a_share_of_calls_fails_with_the_documented_answer_and_the_same_call_always_ends_alike() -> None:
    mock = mocked(failing=30)
    statuses = [mock.ask(id=b"c%d" % number).status for number in range(400)]
    counted = Counter(statuses)
    assert 80 < counted[503] < 160
    assert statuses == [mock.ask(id=b"c%d" % number).status for number in range(400)]


def test_a_delay_is_within_its_bounds_and_differs() -> None:
    from tamarack.core.carrying.needs import Hold

    mock = mocked(delay_ms=20, delay_to_ms=60)
    waits = []
    for number in range(60):
        call = mock.bed.call("POST", PATH, headers=[KEY])
        call.id = b"c%d" % number
        call.operation = operation = mock.bed.operation("POST", PATH)
        need = next(one for one in _needs(operation.run(call)) if isinstance(one, Hold))
        waits.append(need.ms)
    assert min(waits) >= 20
    assert max(waits) <= 60
    assert len(set(waits)) > 10


def _needs(program: Any) -> Any:
    yield from program  # each of them answered with None


def test_an_operation_that_documents_nothing_says_so() -> None:
    refusal = Answering({"kind": "mock"}, documented=False).ask()
    assert isinstance(refusal, Refusal)
    assert (refusal.reason.code, refusal.policy) == ("nothing-documented", "mock")


def test_a_fixed_answer_comes_before_a_mock_and_fills_in_values() -> None:
    fixed = {"kind": "fixed-answer", "status": 409, "headers": ["Retry-After: {{ query.after }}"], "media": "application/json",
             "body": '{"to": "{{ caller.application }}", "port": "{{ body.port }}"}', "when": ["query closed is present"]}  # fmt: skip
    answering = Answering({"kind": "mock"}, fixed)
    assert answering.ask().status == 200
    reply = answering.ask(query=b"closed=1&after=9%0d%0aX-Evil:%201", body=b'{"port": "a\\"b"}')
    assert (reply.status, reply.body) == (409, b'{"to": "berth-board", "port": "a\\"b"}')
    assert reply.fields == b"retry-after: 9 X-Evil: 1\r\ncontent-type: application/json\r\n"


def test_a_fixed_answer_holds_from_its_start_up_to_its_end() -> None:
    fixed = {
        "kind": "fixed-answer",
        "status": 503,
        "body": "closed",
        "starts": "2023-11-14 22:00",
        "ends": "2023-11-14 23:00",
    }
    answering = Answering({"kind": "mock"}, fixed)
    begins = 1_699_999_200.0
    moments = (begins - 1, begins, begins + 3_599, begins + 3_600)
    assert [answering.ask(now=at).status for at in moments] == [200, 503, 503, 200]


def test_a_text_that_fails_is_a_problem_of_its_own() -> None:
    bomb = "{% for a in range(9999) %}{% for b in range(9999) %}x{% endfor %}{% endfor %}"
    refusal = Answering({"kind": "fixed-answer", "body": bomb, "media": "text/plain"}).ask()
    assert (refusal.reason.code, refusal.policy, "fuel" in refusal.note) == ("answer-failed", "fixed-answer", True)


@pytest.mark.parametrize(
    ("policy", "words"),
    [
        ({"kind": "mock", "rules": ["query port equals HBR"]}, "is not a rule; write a condition, an arrow"),
        ({"kind": "mock", "rules": ["port -> 404"]}, "is not a condition"),
        ({"kind": "mock", "status": 99}, "not the status of an answer"),
        ({"kind": "mock", "delay_ms": 9, "delay_to_ms": 5}, "goes backwards"),
        ({"kind": "fixed-answer", "headers": ["Content-Length: 3"]}, "has a meaning of its own|written by the gateway"),
        ({"kind": "fixed-answer", "headers": ["Nothing"]}, "is not a header field"),
        ({"kind": "fixed-answer", "headers": ["X: a\r\nY: b"]}, "more than one line"),
        ({"kind": "fixed-answer", "body": "{{ nobody }}"}, "is not known of a call"),
        ({"kind": "fixed-answer", "status": 204, "body": "x"}, "has no body"),
        ({"kind": "fixed-answer", "starts": "tomorrow"}, "is not a moment"),
        ({"kind": "fixed-answer", "starts": "2026-12-02", "ends": "2026-12-01"}, "before it starts"),
        ({"kind": "response-cache", "own_time": 5}, "are not used where"),
        ({"kind": "response-cache", "how_long": "for a time of its own, whatever the backend says"}, "needs a number"),
        ({"kind": "response-cache", "query": "listed"}, "name query parameters"),
        ({"kind": "response-cache", "body_values": ["from"]}, "is not a JSON Pointer"),
        ({"kind": "response-cache", "at_most": "30 MB"}, "from 1 B to 20 MB"),
        ({"kind": "time-limits"}, "every limit is 0"),
    ],
)
def test_what_makes_no_sense_is_refused_with_the_mend(policy: dict[str, Any], words: str) -> None:
    with pytest.raises(ValueError, match=words):
        TypeAdapter(AnyPolicy).validate_python(policy)


def test_a_rule_reads_and_writes_itself() -> None:
    for text in ("query a is present and body /b is one of 1, 2 -> 404", "path id equals 9 -> example full",
                 'query a matches ^x -> 422 {"a": [1]}'):  # fmt: skip
        assert str(parse_rule(text)) == text
        assert parse_rule(str(parse_rule(text))) == parse_rule(text)


def test_a_version_without_a_backend_has_to_answer_everything_by_itself() -> None:
    operations = [{"call": "get /a"}, {"call": "get /b", "policies": [{"kind": "mock"}]}]
    made = configuration(version={"backend": "", "policies": [API_KEY], "operations": operations})
    (problem,) = check(made)
    assert problem.message.startswith("Sailings 2 has no backend, and nothing answers in its place: get /a;")
    for state, policies, problems in (
        ("published", [API_KEY, {"kind": "mock"}], 0),
        ("published", [API_KEY, {"kind": "fixed-answer"}], 0),
        ("published", [API_KEY, {"kind": "fixed-answer", "when": ["query a is present"]}], 1),
        ("draft", [API_KEY], 0),
    ):
        version = {"backend": "", "state": state, "policies": policies, "operations": [{"call": "get /a"}]}
        assert len(check(configuration(version=version))) == problems


@pytest.mark.parametrize(
    ("policy", "words"),
    [
        ({"kind": "response-cache"}, None),
        ({"kind": "response-cache", "whose": "the same for all callers"}, "‘response-cache’ gives kept answers to all callers"),
        ({"kind": "response-cache", "how_long": "for a time of its own, whatever the backend says", "own_time": 5},
         "‘response-cache’ keeps answers whatever the backend says"),
        ({"kind": "response-cache", "how_long": "for a time of its own, whatever the backend says", "own_time": 5,
          "whose": "the same for all callers"}, "one caller's may be shown to another"),
        ({"kind": "mock"}, "‘mock’ gives callers made-up data"),
    ],
)  # fmt: skip
def test_the_review_warns_of_answers_that_reach_others_or_are_made_up(
    policy: dict[str, Any], words: str | None
) -> None:
    every = configuration(
        version={"policies": [API_KEY, policy], "operations": [{"call": "get /a"}, {"call": "get /b"}]}
    )
    found = [one.text for one in risks(every) if policy["kind"] in one.text]
    assert found == [] if words is None else words in found[0]
    if words is not None:
        assert "get /a" not in found[0]
        one = [{"call": "get /a", "policies": [policy]}, {"call": "get /b"}]
        inside = configuration(version={"policies": [API_KEY], "operations": one})
        assert any(found[0] in risk.text and risk.text.startswith("get /a: ") for risk in risks(inside))
