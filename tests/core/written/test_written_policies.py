"""Policies of written kinds on calls: what is changed, refused and answered, and what happens when a step cannot be taken."""

import json
from typing import Any
from urllib.parse import quote_from_bytes

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from core.carried import Bed, carry, sends
from helpers import configuration, material
from tamarack.core.balancing.route import Choice, Route
from tamarack.core.carrying.forwarding import Passed
from tamarack.core.carrying.parts import Reply
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.configuration.difference import difference
from tamarack.core.configuration.model import Configuration, check, secrets_used
from tamarack.core.configuration.possible_refusals import possible_refusals
from tamarack.core.http.heads import Answered
from tamarack.core.http.target import target_at
from tamarack.core.identity.callers import CallerDirectory
from tamarack.core.told.problems import Problems
from tamarack.core.trying.kind_trial import Example, try_kind
from tamarack.core.written.kind import WrittenKind

TARGET = target_at("http://127.0.0.1:9", 1000, 1000)
JSON = (b"content-type", b"application/json")


def kind(**steps: Any) -> dict[str, Any]:
    return {"name": "own", "title": "Own kind", "help": "A rule of ours"} | steps


def made(of: dict[str, Any], **policy: Any) -> Configuration:
    version = {"policies": [{"kind": "open"}, {"kind": "written:own", "name": "own"} | policy],
               "operations": [{"call": "post /holds/{id}"}]}  # fmt: skip
    return configuration(kinds=[of], version=version)


class On:
    """A configuration with one written policy, and the last request that its backend was sent."""

    def __init__(self, of: dict[str, Any], held: Any = None, **policy: Any) -> None:
        routes = {"timetable": Route((Choice(TARGET),))}
        directory = CallerDirectory(bytes(32), "production")
        self.bed = Bed(made(of, **policy), directory, held or material(), routes=routes)
        self.asked: tuple[str, bytes] | None = None

    def call(
        self, body: bytes = b"{}", query: bytes = b"", fields: Any = (JSON,), status: int = 200,
        answer: bytes = b'{"id": 1, "crew": ["a"]}', headers: Any = (JSON,),
    ) -> tuple[Any, Any]:  # fmt: skip
        call = self.bed.call("POST", b"/sailings/v2/holds/lark", query, list(fields))
        sends(call, body)
        self.asked = None

        def backend(ask: Any, sent: bytes) -> Any:
            self.asked = ask.head.decode("latin-1").lower(), sent
            return Answered(status, list(headers), answer), ()

        return carry(call, backend=backend), call


def test_a_request_is_changed_by_fields_query_and_body_with_values_of_all_kinds() -> None:
    on = On(kind(request="\n".join([
        "let first = pointer /cars/0/id", "let long = path $.cars[?@.length > 6]", "let many = size(vars.long)",
        "set header X-First: {{ vars.first }} for {{ path.id }}", "set header X-Many = string(vars.many)",
        "set query lang: en", "remove query debug", "set /long = vars.many > 0", 'set /by: "{{ path.id }}"',
        "remove /secret",
    ])))  # fmt: skip
    body = {"cars": [{"id": "a", "length": 7}], "secret": 1}
    outcome, _ = on.call(json.dumps(body).encode(), b"debug=1&q=2")
    assert isinstance(outcome, Passed) and on.asked is not None
    head, sent = on.asked
    assert "x-first: a for lark" in head and "x-many: 1" in head and "?q=2&lang=en " in head
    assert json.loads(sent) == {"cars": [{"id": "a", "length": 7}], "long": True, "by": "lark"}
    assert f"content-length: {len(sent)}" in head


@pytest.mark.parametrize(("length", "refused"), [(7, True), (6, False)])
def test_a_call_is_refused_with_status_and_words_where_the_condition_holds(length: int, refused: bool) -> None:
    of = kind(request="when body.length > params.most\n  refuse 422: {{ body.length }} m is over {{ params.most }}",
              parameters=[{"name": "most", "type": "whole number", "default": "5"}])  # fmt: skip
    outcome, call = On(of, most=6).call(json.dumps({"length": length}).encode())
    assert isinstance(outcome, Refusal) is refused
    if isinstance(outcome, Refusal):
        problem = json.loads(Problems("https://p").reply(outcome, call).body)
        assert (problem["status"], problem["reason"], problem["detail"]) == (422, "written-rule", "7 m is over 6")
        assert call.note == "7 m is over 6" and call.policy == "own"


def test_a_call_is_answered_in_the_backends_place() -> None:
    on = On(kind(request='when has(query.closed)\n  answer 200 application/json: {"to": "{{ query.closed }}"}'))
    outcome, _ = on.call(query=b"closed=%22x%0A")
    assert isinstance(outcome, Reply) and json.loads(outcome.body) == {"to": '"x\n'} and on.asked is None
    assert isinstance(on.call()[0], Passed)


def test_an_answer_is_changed_with_what_the_request_left() -> None:
    of = kind(request="let who = pointer /who", answer="\n".join([
        "when answer.status == 200 && has(answer.body.crew)", "  remove /crew", "  set /for = vars.who",
        "  set status 203", "  set header X-For: {{ vars.who }}, {{ answer.status }}",
    ]))  # fmt: skip
    on = On(of)
    outcome, _ = on.call(b'{"who": "tern"}', fields=[JSON, (b"accept-encoding", b"gzip"), (b"range", b"bytes=0-1")])
    assert isinstance(outcome, Passed) and outcome.status == 203 and b"x-for: tern, 203" in outcome.fields
    assert json.loads(outcome.body or b"") == {"id": 1, "for": "tern"}
    assert on.asked is not None and "accept-encoding" not in on.asked[0] and "range" not in on.asked[0]


@pytest.mark.parametrize("method", ["POST", "HEAD"])
@pytest.mark.parametrize(("said", "status"), [("answer 200 text/plain: gone", 200), ("answer 204", 204)])
def test_an_answer_in_the_place_of_the_backends_is_framed_as_its_method_and_status_have_it(
    method: str, said: str, status: int
) -> None:
    routes = {"timetable": Route((Choice(TARGET),))}
    version = {
        "policies": [{"kind": "open"}, {"kind": "written:own", "name": "own"}],
        "operations": [{"call": "any /a"}],
    }
    whole = configuration(kinds=[kind(answer=said)], version=version)
    bed = Bed(whole, CallerDirectory(bytes(32), "production"), material(), routes=routes)
    call = bed.call(method, b"/sailings/v2/a")
    headers = [JSON, (b"content-length", b"9"), (b"etag", b'"x"')]
    outcome = carry(
        call, backend=lambda ask, sent: (Answered(200, headers, b"" if method == "HEAD" else b'{"a": 12}'), ())
    )
    assert isinstance(outcome, Passed) and outcome.status == status
    assert (outcome.body or b"") == (b"gone" if status == 200 and method == "POST" else b"")
    assert b"etag" not in outcome.fields and b"content-length: 9" not in outcome.fields


def test_what_is_told_of_an_error_is_changed_and_the_call_id_stays() -> None:
    of = kind(error='when error.reason == "backend-away"\n  set status 503\n  set /help: "{{ error.title }}"')
    on = On(of)
    _, call = on.call()
    told = Problems("https://p").reply(Refusal(REASONS["backend-away"]), call)
    assert told.status == 503 and json.loads(told.body)["help"] == REASONS["backend-away"].title
    assert json.loads(told.body)["call_id"] == "c1"
    untouched = Problems("https://p").reply(Refusal(REASONS["backend-slow"]), call)
    assert untouched.status == 504 and "help" not in json.loads(untouched.body)


@pytest.mark.parametrize(
    ("steps", "body", "reason", "note"),
    [
        ("when query.nope == ''\n  stop", b"{}", "change-failed", "line 1: ‘query.nope == ''’: there is no ‘nope’"),
        ("set header X: a\nlet x = body.nope", b"{}", "change-failed", "line 2"),
        ("set /a = 1", b"{", "bad-body", "line 1: the body"),
        ("set /b = 1", b'{"a":' * 1_000 + b"1" + b"}" * 1_000, "bad-body", "nested too deeply"),
        ("let x = body", b'{"a":' * 1_000 + b"1" + b"}" * 1_000, "bad-body", "nested too deeply"),
        ("when has(body.a)\n  stop", b"{", "bad-body", "line 1: the body"),
        ("when has(body.a)\n  refuse 403: no", b'{"b": "' + b"x" * 70_000 + b'"}', "too-large", "line 1"),
        ("let x = path $.a", json.dumps([1] * 2_000).encode(), "too-large", "line 1"),
        ("when body.l.all(x, x == 1)\n  stop", json.dumps({"l": [1] * 20_000}).encode(), "change-failed", "cut off"),
        ("set header X: {% for a in range(9999999) %}a{% endfor %}", b"{}", "change-failed", "line 1"),
    ],
)
def test_a_step_that_cannot_be_taken_ends_the_call_and_says_which(
    steps: str, body: bytes, reason: str, note: str
) -> None:
    """Never passed on as if the rule were not there: a body too large to be looked at is no way round it."""
    on = On(kind(request=steps))
    outcome, _ = on.call(body)
    assert isinstance(outcome, Refusal) and outcome.reason.code == reason and on.asked is None
    assert note in outcome.note and outcome.policy == "own" and not outcome.detail


@pytest.mark.parametrize(
    ("answer", "headers"),
    [(b"{", (JSON,)), (b"{}", (JSON, (b"content-encoding", b"gzip"))), (b'"' + b"x" * 2_000_000 + b'"', (JSON,))],
)
def test_an_answer_that_cannot_be_looked_into_is_not_given(answer: bytes, headers: Any) -> None:
    outcome, _ = On(kind(answer="when has(answer.body.secret)\n  remove /secret")).call(answer=answer, headers=headers)
    assert isinstance(outcome, Refusal) and outcome.reason.code == "answer-unreadable"


def test_an_answer_of_another_type_passes_and_has_nothing_in_it() -> None:
    of = kind(answer="when has(answer.body.secret)\n  set status 500\nremove /a")
    outcome, _ = On(of).call(answer=b"<a/>", headers=[(b"content-type", b"application/xml")])
    assert isinstance(outcome, Passed) and (outcome.status, outcome.body) == (200, b"<a/>")


def test_a_secret_is_compared_and_a_new_value_holds_at_once() -> None:
    held = material()
    of = kind(request='when !("x-token" in header) || !is_secret(params.key, header["x-token"])\n  refuse 401: no',
              parameters=[{"name": "key", "type": "secret", "required": True}])  # fmt: skip
    on = On(of, held, key="door")
    token = [JSON, (b"x-token", b"s3cret")]
    assert isinstance(on.call(fields=token)[0], Refusal)  # not set yet
    held.secret("door").put(((b"s3cret", 0.0),))
    assert isinstance(on.call(fields=token)[0], Passed)
    held.secret("door").put(((b"newer", 0.0), (b"s3cret", 2_000_000_000.0)))
    assert isinstance(on.call(fields=token)[0], Passed)  # while the two overlap
    held.secret("door").put(((b"newer", 0.0),))
    assert isinstance(on.call(fields=token)[0], Refusal)
    assert secrets_used(made(of, key="door")) == {"door": ["Sailings 2"]}


@settings(max_examples=60)
@given(typed=st.text(st.characters(exclude_categories=("Cs",)), max_size=40), query=st.binary(max_size=30))
def test_whatever_comes_in_a_value_stays_a_value(typed: str, query: bytes) -> None:
    on = On(kind(request='set header X-A: {{ query.a }}\nset header X-B = string(body.t)\nset query b: {{ query.a }}\n'
                         'set /t2: "{{ body.t }}"'))  # fmt: skip
    outcome, _ = on.call(json.dumps({"t": typed}).encode(), b"a=" + quote_from_bytes(query).encode())
    if isinstance(outcome, Refusal):
        return
    assert on.asked is not None
    head, sent = on.asked
    lines = head.split("\r\n")
    assert sum(line.startswith("x-a:") for line in lines) <= 1 and sum(line.startswith("x-b:") for line in lines) <= 1
    assert lines[0].count(" ") == 2 and json.loads(sent)["t2"] == typed


def test_a_kind_private_to_an_api_stands_nowhere_else() -> None:
    of = kind(request="stop", api="fares")
    told = [problem.message for problem in check(made(of))]
    assert any("private to the API 'fares'" in words for words in told) and any("is no API" in words for words in told)


@pytest.mark.parametrize(
    ("of", "policy", "words"),
    [
        (kind(request="stop", levels=["operation"]), {}, "'Own kind' cannot stand on a whole API; place it on an operation"),
        (kind(request="stop"), {"extra": 1}, "‘own’: extra is not a field here"),
        (kind(request="stop", parameters=[{"name": "n", "type": "whole number", "rule": "1..5", "required": True}]),
         {"n": 9}, "‘own’: n 9 is not within 1..5"),
        ({"name": "other", "title": "Other", "request": "stop"}, {}, "there is no written kind 'own'"),
    ],
)  # fmt: skip
def test_a_policy_that_does_not_fit_its_kind_cannot_be_rolled_out(
    of: dict[str, Any], policy: dict[str, Any], words: str
) -> None:
    assert any(words in problem.message for problem in check(made(of, **policy)))


def test_a_change_of_a_kind_tells_which_placements_it_touches() -> None:
    before, after = made(kind(request="stop")), made(kind(request="refuse 403: no", version=2))
    told = [f"{one.subject}: {one.text}" for one in difference(before, after)]
    assert told == ["kind Own kind: its steps on request from version 1 to 2",
                    "kind Own kind: this touches 1 placement: Sailings 2"]  # fmt: skip
    assert {change.kind for change in difference(before, after)} == {"kind"}


def test_developers_are_told_that_its_rules_may_refuse() -> None:
    here = made(kind(request="refuse 403: no"))
    api = here.apis[0]
    codes = {reason.code for reason in possible_refusals(here, api, api.versions[0], api.versions[0].operations[0])}
    assert "written-rule" in codes


KIND = WrittenKind.model_validate(kind(request="let n = pointer /length\nwhen vars.n > params.most\n  refuse 422: too long\n"
                                  "set header X-Length = string(vars.n)", answer="remove /state",
                                  parameters=[{"name": "most", "type": "whole number", "default": "90"}]))  # fmt: skip


def tried(values: dict[str, Any], **example: Any) -> Any:
    return try_kind(KIND, values, Example(**example), "s", 1_700_000_000.0, lambda: 0)


def test_tried_on_an_example_it_says_what_is_asked_answered_and_done_in_each_line() -> None:
    found, errors = tried({})
    assert not errors and found.status == 200 and json.loads(found.body) == {"id": 1}
    assert "x-length: 84" in found.asked and found.asked.startswith("POST /holds/corran-1?port=corran ")
    did = [pair for entry in found.entries for pair in entry.changes]
    assert ("line 1", "let n = 84") in did and ("line 2", "when vars.n > params.most: does not hold") in did
    found, _ = tried({"most": 50})
    assert (found.status, found.asked, found.note) == (422, "", "too long")


@pytest.mark.parametrize(
    ("values", "example", "field"),
    [
        ({"most": "x"}, {}, "values.most"),
        ({}, {"operation": "fly /a"}, "operation"),
        ({}, {"path": "/elsewhere"}, "path"),
        ({}, {"path": "no slash"}, "path"),
        ({}, {"headers": "no colon"}, "headers"),
        ({}, {"status": 99}, "status"),
        ({}, {"fails": "nope"}, "fails"),
        ({}, {"answer_body": "x" * 70_000}, "answer_body"),
    ],
)
def test_an_example_that_cannot_be_run_is_told_by_its_field(
    values: dict[str, Any], example: dict[str, Any], field: str
) -> None:
    found, errors = tried(values, **example)
    assert found is None and set(errors) == {field}
