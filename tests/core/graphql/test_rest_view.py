"""A document published as a REST operation: its variables are parameters, its answer is plain JSON, its rules all hold."""

from typing import Any

import orjson
import pytest
from hypothesis import given
from hypothesis import strategies as st

from core.graphql.fleet import SDL, Fleet
from tamarack.core.carrying.refusals import Refusal
from tamarack.core.graphql.schema import graph_of
from tamarack.core.graphql.views.rest_view import ParameterProblem, RestView, ViewProblem, view_of

VESSEL = "query Vessel($name: ID!, $last: Int = 2) { vessel(name: $name) { name crossings(last: $last) { id } } }"
SEARCH = "query Search($text: String!) { search(text: $text) { __typename } ports: vessels(first: 1) { name } }"
HOLD = "mutation Hold($berth: ID!) { hold(berth: $berth) { code title } }"
VIEWS = {
    "get /vessels/{name}": (VESSEL, "value"), "get /search": (SEARCH, "data"), "post /holds": (HOLD, "value")
}  # fmt: skip


def told(outcome: Any) -> Any:
    assert not isinstance(outcome, Refusal), outcome
    return orjson.loads(outcome.body)


def test_a_call_is_sent_as_its_document_and_answered_with_the_value() -> None:
    fleet = Fleet(views=VIEWS).answers({"data": {"vessel": {"name": "tern", "crossings": []}}}, (b"etag", b'"7"'))
    outcome = fleet.send("GET", b"", b"last=3&utm=x", (b"accept-encoding", b"gzip"), path=b"/vessels/tern%20a")
    assert told(outcome) == {"name": "tern", "crossings": []} and b"etag" not in outcome.fields
    address, body = fleet.sent[-1]
    assert (address, orjson.loads(body)) == (b"/graph/", {"query": VESSEL, "variables": {"name": "tern a", "last": 3}})
    assert fleet.head.startswith(b"POST ") and b"content-type: application/json\r\n" in fleet.head
    assert b"accept: application/graphql-response+json, application/json;q=0.9\r\n" in fleet.head
    assert b"accept-encoding" not in fleet.head and b"utm" not in fleet.head
    assert fleet.call.graph.named == "query Vessel"


def test_what_is_not_given_is_left_to_the_documents_default() -> None:
    fleet = Fleet(views=VIEWS).answers({"data": {"vessel": {}}})
    fleet.send("GET", path=b"/vessels/tern")
    assert orjson.loads(fleet.sent[-1][1])["variables"] == {"name": "tern"}


def test_a_change_takes_its_parameters_from_the_body() -> None:
    fleet = Fleet(views=VIEWS).answers({"data": {"hold": {"code": "b1"}}})
    assert told(fleet.send("POST", b'{"berth": "b1", "more": 1}', path=b"/holds")) == {"code": "b1"}
    assert orjson.loads(fleet.sent[-1][1])["variables"] == {"berth": "b1"}


@pytest.mark.parametrize(
    ("method", "path", "query", "body", "said"),
    [
        ("GET", b"/vessels/tern", b"last=two", b"", "`last` is a whole number, not 'two'"),
        ("GET", b"/vessels/tern", b"last=99999999999", b"", "`last` is a whole number"),
        ("GET", b"/vessels/tern", b"last=1&last=2", b"", "given 2 times"),
        ("GET", b"/search", b"", b"", "`text` of the query is missing; it is a String"),
        ("GET", b"/search", b"text=%FF", b"", "cannot be read"),
        ("GET", b"/search", b"&".join(b"a%d=" % n for n in range(300)), b"", "too many parameters"),
        ("POST", b"/holds", b"", b"", "`berth` of the body is missing"),
        ("POST", b"/holds", b"", b'{"berth": null}', "`berth` of the body is missing"),
        ("POST", b"/holds", b"", b"[]", "an object"), ("POST", b"/holds", b"", b"{", "not JSON"),
    ],
)  # fmt: skip
def test_a_parameter_that_is_missing_or_not_of_its_kind_is_named(
    method: str, path: bytes, query: bytes, body: bytes, said: str
) -> None:
    fleet = Fleet(views=VIEWS)
    outcome = fleet.send(method, body, query, path=path)
    assert isinstance(outcome, Refusal) and outcome.reason.code == "bad-parameter" and said in outcome.detail
    assert fleet.sent == [] and fleet.told(outcome)[0].status == 400
    assert fleet.told(outcome)[1]["reason"] == "bad-parameter"  # as problem details, not as GraphQL


@pytest.mark.parametrize(
    ("path", "told_by", "code", "said"),
    [
        (b"/vessels/x", {"data": {"vessel": None}}, "nothing-found", ""),
        (b"/vessels/x", {"data": {"vessel": None}, "errors": [{"message": "no\r\nlamp"}, {}]}, "graph-failed", "lamp (and 1 more)"),
        (b"/search", {"errors": [{"message": "down"}]}, "graph-failed", "The graph said: down"),
        (b"/search", {"data": None, "errors": "down"}, "graph-failed", "down"),
        (b"/search", [1], "answer-unreadable", ""), (b"/search", {"x": 1}, "answer-unreadable", ""),
        (b"/search", b"<p>", "answer-unreadable", ""),
    ],
)  # fmt: skip
def test_an_answer_without_a_value_is_a_problem_that_says_why(path: bytes, told_by: Any, code: str, said: str) -> None:
    fleet = Fleet(views=VIEWS).answers(told_by)
    outcome = fleet.send("GET", b"", b"text=x", path=path)
    assert isinstance(outcome, Refusal) and outcome.reason.code == code and said in outcome.detail


def test_errors_beside_a_value_are_counted_and_other_failures_pass() -> None:
    fleet = Fleet(views=VIEWS).answers({"data": {"search": None, "ports": []}, "errors": [{"message": "lamp"}]})
    outcome = fleet.send("GET", b"", b"text=x", path=b"/search")
    assert told(outcome) == {"search": None, "ports": []} and b"tamarack-graph-errors: 1\r\n" in outcome.fields
    assert fleet.call.note == "the graph: lamp"
    for odd in (7, {"message": "lamp"}, "lamp"):
        fleet.answers({"data": {"search": []}, "errors": odd})
        outcome = fleet.send("GET", b"", b"text=x", path=b"/search")
        assert told(outcome) == {"search": []} and b"tamarack-graph-errors: 1\r\n" in outcome.fields
    fleet.answers(b"<p>away</p>", (b"content-type", b"text/html"), status=503)
    outcome = fleet.send("GET", b"", b"text=x", path=b"/search")
    assert (outcome.status, outcome.body) == (503, b"<p>away</p>")


def test_the_rules_of_documents_hold_for_their_views() -> None:
    fleet = Fleet(
        {"kind": "graphql-limits", "cost": 10}, {"kind": "graphql-fields", "rules": ["Mutation.*: nobody"]}, views=VIEWS
    )
    outcome = fleet.send("GET", b"", b"last=50", path=b"/vessels/tern")
    assert isinstance(outcome, Refusal) and outcome.reason.code == "over-graphql-limit"
    outcome = fleet.send("POST", b'{"berth": 1}', path=b"/holds")
    assert isinstance(outcome, Refusal) and outcome.reason.code == "closed-field"


def test_what_is_closed_is_null_in_a_view_and_where_it_is_the_value_the_call_is_refused() -> None:
    null = {
        "kind": "graphql-fields",
        "rules": ["Vessel.crossings: nobody", "Berth.*: nobody"],
        "closed": "comes back null",
    }
    views = VIEWS | {"get /names": ("{ vessel(name: 1) { name oldName } }", "value")}
    fleet = Fleet(null | {"rules": ["Vessel.oldName: nobody", "Berth.*: nobody"]}, views=views)
    fleet.answers({"data": {"vessel": {"name": "tern"}}})
    outcome = fleet.send("GET", path=b"/names")
    assert told(outcome) == {"name": "tern", "oldName": None} and b"tamarack-graph-errors: 1" in outcome.fields
    outcome = fleet.send("POST", b'{"berth": 1}', path=b"/holds")
    assert isinstance(outcome, Refusal) and outcome.reason.code == "closed-field"
    assert len(fleet.sent) == 1


def test_views_are_made_up_and_kept_as_documents_are() -> None:
    made = told(Fleet({"kind": "mock"}, views=VIEWS).send("GET", b"", b"last=1", path=b"/vessels/tern"))
    assert made["name"] == "tern" and len(made["crossings"]) == 1
    kept = {"kind": "response-cache", "how_long": "for a time of its own, whatever the backend says", "own_time": 60}
    fleet = Fleet(kept, views=VIEWS).answers({"data": {"vessel": {"name": "a"}}})
    answers = [told(fleet.send("GET", b"", query, path=b"/vessels/a")) for query in (b"", b"", b"last=2", b"x=1")]
    assert answers == [{"name": "a"}] * 4 and len(fleet.sent) == 2
    fixed = {"kind": "fixed-answer", "status": 200, "body": '{"lamp": 1}', "media": "application/json"}
    assert told(Fleet(fixed, views=VIEWS).send("GET", path=b"/vessels/a")) == {"lamp": 1}


@pytest.mark.parametrize(
    ("call", "text", "gives", "said"),
    [
        ("get /", VESSEL, "value", "path of its own"), ("get /v/*", VESSEL, "value", "path of its own"),
        ("head /v", VESSEL, "value", "not by head"), ("get /v/{lamp}", VESSEL, "value", "{lamp} of the path is no variable"),
        ("get /holds", HOLD, "value", "a GET changes nothing"), ("get /s", SEARCH, "value", "has 2 root fields"),
        ("get /v", VESSEL, "all", "no way to answer"), ("get /v", "{ lamp }", "value", "line 1: Query has no field 'lamp'"),
        ("get /v", "{", "value", "line 1: Syntax"), ("get /v", "{ vessel { name } }", "value", "line 1: Argument 'Query.vessel(name:)'"),
        ("get /v", "query A { vessels { name } } query B { vessels { name } }", "value", "2 operations"),
        ("get /v", "{ __schema { types { name } } }", "value", "leave `__schema`"),
        ("get /v", "subscription { sailed { name } }", "value", "no REST operation"),
        ("get /v/{l}", "query Q($l: [ID!]) { many(l: $l) }", "value", "no part of a path"),
        ("get /v", "query Q($l: In) { by(in: $l) }", "value", "comes in a body"),
        ("get /v", "{ vessels { name } ...F } fragment F on Query { vessels { name } }", "value", "3 root fields"),
        ("get /v", "{ vessels { name } }" + " " * 20_000, "value", "up to 20,000"),
    ],
)  # fmt: skip
def test_a_view_that_cannot_be_published_says_why(call: str, text: str, gives: str, said: str) -> None:
    schema = SDL.replace("type Query {", "type Query { many(l: [ID!]): Int by(in: In): Int") + (
        "input In { a: Int } type Subscription { sailed: Vessel }"
    )

    with pytest.raises(ViewProblem) as problem:
        view_of(call, text, gives, graph_of(schema))
    assert said in str(problem.value)


KINDS = {"Int": st.integers(-(2**31), 2**31 - 1), "Float": st.floats(allow_nan=False, allow_infinity=False, width=32),
         "Boolean": st.booleans(), "String": st.text(max_size=20), "ID": st.text(max_size=20)}  # fmt: skip


@given(st.data(), st.sampled_from(sorted(KINDS)), st.booleans())
def test_what_is_written_in_an_address_is_read_back(data: st.DataObject, kind: str, is_list: bool) -> None:

    graph = graph_of(f"type Query {{ q(v: {'[' * is_list}{kind}{']' * is_list}): Int }}")
    view = view_of("get /q", f"query Q($v: {'[' * is_list}{kind}{']' * is_list}) {{ q(v: $v) }}", "value", graph)
    value = data.draw(st.lists(KINDS[kind], min_size=1, max_size=4) if is_list else KINDS[kind])
    written = [{True: "true", False: "false"}.get(one, str(one)) if kind == "Boolean" else str(one)
               for one in (value if is_list else [value])]  # fmt: skip
    assert view.variables({}, {"v": written}, {}) == {"v": value}


@given(st.sampled_from(["Int", "Float", "Boolean"]), st.text(max_size=12))
def test_any_text_is_a_value_of_its_kind_or_is_named(kind: str, text: str) -> None:
    view = RestView("", "", "value", None, tuple(VIEW_OF[kind]), "")  # type: ignore[arg-type]
    try:
        found = view.variables({}, {"v": [text]}, {})["v"]
        assert type(found).__name__ == {"Int": "int", "Float": "float", "Boolean": "bool"}[kind]
    except ParameterProblem as problem:
        assert str(problem).startswith("the parameter `v` is ")


def _parameters(kind: str) -> Any:

    graph = graph_of(f"type Query {{ q(v: {kind}): Int }}")
    return view_of("get /q", f"query Q($v: {kind}) {{ q(v: $v) }}", "value", graph).parameters


VIEW_OF = {kind: _parameters(kind) for kind in ("Int", "Float", "Boolean")}
