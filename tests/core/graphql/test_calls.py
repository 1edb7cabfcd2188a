"""Calls to a GraphQL API: read, bounded, closed by field, told in the form of GraphQL, and the schema told in part."""

from typing import Any
from urllib.parse import urlencode

import orjson
import pytest
from graphql import get_introspection_query
from pydantic import ValidationError

from core.graphql.fleet import NEWER, SDL, Fleet
from tamarack.core.carrying.forwarding import Passed
from tamarack.core.carrying.parts import Reply
from tamarack.core.carrying.refusals import Refusal
from tamarack.core.graphql.calls.documents import Documents
from tamarack.core.graphql.document import DocumentProblem
from tamarack.core.graphql.request import RESPONSE, wants_response_media
from tamarack.core.graphql.schema import graph_of, graph_of_introspection
from tamarack.core.policies.permit.graphql_fields import GraphqlFields
from tamarack.core.policies.permit.graphql_limits import GraphqlLimits
from tamarack.core.told.recording import record_of
from tamarack.core.traffic.record import Record

NAMES = "{ vessels { name } }"


def limits(**more: Any) -> dict[str, Any]:
    return {"kind": "graphql-limits"} | more


def fields(*rules: str) -> dict[str, Any]:
    return {"kind": "graphql-fields", "rules": list(rules)}


# requests


def test_a_document_goes_on_by_post_and_by_get_each_member_once() -> None:
    fleet = Fleet()
    assert isinstance(fleet.send("POST", b'{"query":"{ vessels { oldName } }","query":"{ vessels { name } }"}'), Passed)
    assert fleet.sent[-1] == (b"/graph/", b'{"query":"{ vessels { name } }"}')
    query = urlencode({"query": "query Q($n: Int) { vessels(first: $n) { name } }", "variables": '{"n": 2}'}).encode()
    assert isinstance(fleet.send("GET", b"", query), Passed)
    assert fleet.sent[-1][0] == b"/graph/?" + query


@pytest.mark.parametrize(
    ("body", "said"),
    [
        (b"", "empty"), (b"{", "not JSON"), (b"7", "an object"), (b"{}", "no document"), (b'{"query": " "}', "no document"),
        (b'{"query": 7}', "no document"), (b'{"query": "{a}", "variables": []}', "`variables` is an object"),
        (b'{"query": "{a}", "operationName": 7}', "`operationName` is a text"), (b"[]", "holds 1 to 50"),
        (b'{"query": "{a}", "extensions": 7}', "`extensions` is an object"),
        (b'{"query": "query A { vessels { name } } query B { vessels { name } }"}', "has 2 operations"),
        (b'{"query": "{ vessels { name } }", "operationName": "B"}', "no operation 'B'"),
    ],
)  # fmt: skip
def test_a_request_that_holds_no_document_to_run_is_refused_with_what_is_wrong(body: bytes, said: str) -> None:
    fleet = Fleet()
    outcome = fleet.send("POST", body)
    assert isinstance(outcome, Refusal) and outcome.reason.code == "bad-graphql" and said in outcome.detail
    assert fleet.sent == []


@pytest.mark.parametrize(
    ("query", "said"),
    [(b"", "no document"), (b"query={a}&query={b}", "more than once"), (b"query={a}&qu%65ry={b}", "more than once"),
     (b"query={a}&variables=%7B", "not JSON"), (b"query=%FF%7Ba%7D", "Unexpected character")],
)  # fmt: skip
def test_a_get_that_holds_no_document_is_refused_too(query: bytes, said: str) -> None:
    outcome = Fleet().send("GET", b"", query)
    assert isinstance(outcome, Refusal) and said in outcome.detail


def test_a_get_runs_queries_alone_and_a_body_is_json() -> None:
    outcome = Fleet().send("GET", b"", urlencode({"query": "mutation { hold(berth: 1) { code } }"}).encode())
    assert isinstance(outcome, Refusal) and (outcome.status, outcome.headers) == (405, ((b"allow", b"POST"),))
    outcome = Fleet().send("POST", b"{ vessels { name } }", b"", (b"content-type", b"application/graphql"))
    assert isinstance(outcome, Refusal) and outcome.status == 415


# limits


@pytest.mark.parametrize(
    ("given", "document", "said"),
    [
        ({"depth": 1}, NAMES, "depth is 2, and may be 1"),
        ({"fields": 1}, NAMES, "number of fields is 2, and may be 1"),
        ({"aliases": 0}, "{ a: vessels { name } }", "number of aliases is 1, and may be 0"),
        ({"roots": 1}, "{ vessels { name } port(code: 1) { code } }", "number of root fields is 2, and may be 1"),
        ({"cost": 9}, NAMES, "cost is 10, and may be 9"),
        ({"cost": 20, "weights": ["Query.vessels: 3"]}, NAMES, "cost is 30, and may be 20"),
        ({"longest": 100}, NAMES + " " * 100, "characters is 120, and may be 100"),
    ],
)  # fmt: skip
def test_each_bound_refuses_beyond_it_names_itself_and_lets_the_bound_pass(
    given: dict[str, Any], document: str, said: str
) -> None:
    fleet = Fleet(limits(**given))
    code, detail = fleet.why(document)
    assert (code, fleet.sent) == ("over-graphql-limit", []) and said in detail
    name, most = next(iter(given.items()))
    roomy = Fleet(limits(**given | {name: most * 20 + 30}))
    assert roomy.why(document) == ("", "")


@pytest.mark.parametrize(
    ("declared", "given", "said"),
    [
        ("$n: Int", {"n": "50"}, "'$n' has invalid value: Int cannot represent non-integer value: '50'."),
        ("$n: Int!", {}, "'$n' has invalid value: Expected a value of non-null type 'Int!'"),
        ("$id: ID", {"id": []}, "ID cannot represent value: []"),
        ("$n: [Int]", {"n": [1, None, "x"]}, "'$n' has invalid value at [2]"),
        ("$n: Lamp", {"n": 1}, "type 'Lamp' which cannot be used"), ("$n: Int", {"n": 2**40}, "non 32-bit"),
    ],
)  # fmt: skip
def test_variables_are_held_against_their_types(declared: str, given: dict[str, Any], said: str) -> None:
    fleet = Fleet(limits(cost=50))
    outcome = fleet.ask(f"query Q({declared}) {{ vessels {{ name }} }}", **given)
    assert isinstance(outcome, Refusal) and outcome.reason.code == "bad-graphql" and said in outcome.detail
    assert outcome.note == "a variable is not of its type" and fleet.sent == []  # no record holds a value
    assert fleet.why("query Q($n: Int = 3) { vessels(first: $n) { name } }") == ("", "")
    assert fleet.call.graph.runs[0].variables == {"n": 3} and fleet.call.graph.cost == 3


def test_variables_are_no_flood() -> None:
    fleet = Fleet()
    outcome = fleet.ask("query Q($n: [Int]) { vessels { name } }", n=[1] * 20_000)
    assert isinstance(outcome, Refusal) and outcome.reason.code == "over-graphql-limit" and "10,000" in outcome.detail
    assert fleet.ask("query Q($n: [[Int]]) { vessels { name } }", n=[[1] * 90] * 90).status == 200


def test_a_document_that_is_too_long_is_not_even_read() -> None:
    fleet = Fleet(limits(longest=100, batch=2))
    assert "characters is 101, and may be 100" in fleet.why("{ no document at all" + " " * 81)[1]
    outcome = fleet.send("POST", orjson.dumps([{"query": "{ no document"}] * 3))
    assert isinstance(outcome, Refusal) and "number of documents in the call is 3" in outcome.detail


def test_nothing_new_is_read_for_a_caller_that_is_over_its_limits() -> None:
    fleet = Fleet({"kind": "rate-limit", "windows": ["1 per minute"]})
    assert fleet.why(NAMES) == ("", "")
    for _ in range(Documents.PATIENCE):
        assert fleet.why("{ no document")[0] == "bad-graphql" and fleet.why(NAMES)[0] == "over-rate"
    outcome = fleet.ask("{ this is no document, and nobody looks")
    assert isinstance(outcome, Refusal) and (outcome.reason.code, outcome.headers) == (
        "over-rate",
        ((b"retry-after", b"1"),),
    )
    assert fleet.call.graph is None and "limit" in fleet.why(NAMES)[1]  # what is known is asked of the limits again
    fleet.later += Documents.SPARED_S
    assert fleet.why("{ this is no document")[0] == "bad-graphql"


def test_a_list_that_a_variable_makes_long_costs_so_much() -> None:
    fleet = Fleet(limits(cost=50))
    document = "query Q($n: Int) { vessels(first: $n) { name } }"
    assert fleet.why(document, n=50) == ("", "") and fleet.call.graph.cost == 50
    assert "cost is 51" in fleet.why(document, n=51)[1]


@pytest.mark.parametrize(
    "asked", ["first: 1, last: 51", "last: 51, first: 1", "first: $n, last: 1", "last: $n, first: $n"]
)
def test_of_several_bounds_of_a_list_the_longest_is_its_cost(asked: str) -> None:
    fleet = Fleet(limits(cost=50), schema=SDL.replace("vessels(first: Int)", "vessels(first: Int, last: Int)"))
    declared = "($n: Int)" if "$" in asked else ""
    assert "cost is 51" in fleet.why(f"query Q{declared} {{ vessels({asked}) {{ name }} }}", n=51)[1]


def test_a_batch_is_counted_together_and_closed_unless_opened() -> None:
    body = orjson.dumps([{"query": NAMES}] * 3)
    closed = Fleet(limits()).send("POST", body)
    assert isinstance(closed, Refusal) and "documents in the call is 3, and may be 1" in closed.detail
    fleet = Fleet(limits(batch=3, cost=29))
    outcome = fleet.send("POST", body)
    assert isinstance(outcome, Refusal) and "cost is 30" in outcome.detail
    assert isinstance(Fleet(limits(batch=3)).send("POST", body), Passed)


# fields


def test_closed_fields_are_refused_as_a_whole_with_every_place_named_and_pass_for_whom_they_are_open() -> None:
    rules = ("Berth.*: groups harbour", "Vessel.oldName: nobody", "Port.near: plans cutter")
    document = "{ vessels { oldName } port(code: 1) { berths { length } near { code } } }"
    fleet = Fleet(fields(*rules))
    code, said = fleet.why(document)
    assert (code, fleet.sent) == ("closed-field", [])
    assert all(place in said for place in ("`length` of `Berth`", "`near` of `Port`", "`oldName` of `Vessel`"))
    assert fleet.why(NAMES) == ("", "")
    inside = Fleet(fields(*rules[:1], "Port.near: plans passage/skiff"), groups=("harbour",))
    assert inside.why("{ port(code: 1) { berths { length } near { code } } }") == ("", "")


@pytest.mark.parametrize(
    "document",
    [
        "{ port(code: 1) { b: berths { l: length } } }",
        "{ port(code: 1) { ...F } } fragment F on Port { berths { ... on Berth { length } } }",
        "{ place(id: 1) { code } }",
        "{ port(code: 1) { berths { __typename } } }",
        "mutation { hold(berth: 1) { code } }",
        "{ __typename ... on Query { port(code: 1) { berths { ... { length } } } } }",
        "query A { vessels { name } } query B { port(code: 1) { berths { length } } }",
    ],
)
def test_no_way_round_leads_to_a_closed_type(document: str) -> None:
    operation = "B" if "query B" in document else None
    assert Fleet(fields("Berth.*: nobody")).why(document, operation=operation)[0] == "closed-field"


# answers


def test_refusals_are_told_as_errors_in_the_media_type_that_callers_take() -> None:
    fleet = Fleet(limits(depth=1))
    reply, told = fleet.told(fleet.ask(NAMES, NEWER))
    assert (reply.status, reply.fields) == (400, b"content-type: application/graphql-response+json\r\n")
    (error,) = told["errors"]
    assert "depth is 2" in error["message"] and "data" not in told
    assert error["extensions"] == {
        "reason": "over-graphql-limit", "title": "The document asks for too much", "call_id": "c1",
        "help": "http://portal.example/reasons/over-graphql-limit",
    }  # fmt: skip
    older, told = fleet.told(fleet.ask(NAMES))
    assert older.status == 200 and b"application/json" in older.fields and "errors" in told
    reply, told = fleet.told(fleet.ask("{ vessels {\n nam } }", NEWER))
    assert told["errors"][0]["locations"] == [{"line": 2, "column": 2}]
    other = Fleet()  # what is no business of the document keeps its status with plain JSON too
    reply, told = other.told(other.send("POST", b"{}", b"", (b"x-skerry-key", b"wrong")))
    assert (reply.status, told["errors"][0]["extensions"]["reason"]) == (400, "doubled-credential")


@pytest.mark.parametrize(
    ("accept", "newer"),
    [(b"", False), (b"*/*", False), (b"application/json", False), (RESPONSE, True),
     (b"application/graphql-response+json; charset=utf-8, application/json;q=0.9", True),
     (b"application/json, application/graphql-response+json;q=0.5", False), (b"application/graphql-response+json;q=0", False),
     (b"application/graphql-response+json;q=x", False)],
)  # fmt: skip
def test_the_media_type_is_the_one_that_is_taken_first(accept: bytes, newer: bool) -> None:
    assert wants_response_media(accept) == newer


# the schema


def told_schema(fleet: Fleet) -> Any:
    outcome = fleet.ask(get_introspection_query())
    assert isinstance(outcome, Reply) and fleet.sent == []
    return graph_of_introspection(orjson.loads(outcome.body))


def test_who_asks_for_the_schema_is_told_the_part_that_is_open_to_them_by_the_gateway() -> None:
    whole, published = told_schema(Fleet()).fields, graph_of(SDL).fields
    assert {name: set(of) for name, of in whole.items()} == {name: set(of) for name, of in published.items()}
    part = told_schema(Fleet(fields("Berth.*: groups harbour", "Vessel.oldName: nobody")))
    assert "Berth" not in part.fields and "berths" not in part.fields["Port"] and "oldName" not in part.fields["Vessel"]
    assert "mutation" not in part.roots and set(part.fields["Query"]) == {
        "vessels",
        "vessel",
        "port",
        "place",
        "search",
    }
    whole = told_schema(Fleet(fields("Berth.*: groups harbour"), groups=("harbour",)))
    assert "Berth" in whole.fields and "mutation" in whole.roots


def test_the_schema_is_asked_for_by_itself_and_not_where_it_is_closed() -> None:
    fleet = Fleet(limits())
    assert "by itself" in fleet.why("{ __schema { types { name } } vessels { name } }")[1]
    assert Fleet(limits(introspection="closed")).why("{ __schema { types { name } } }")[0] == "introspection-closed"
    told_to = limits(introspection="closed", told_to=["harbour-tools"])
    assert Fleet(told_to, groups=("harbour",)).why("{ __schema { types { name } } }")[0] == "introspection-closed"
    assert Fleet(told_to, groups=("harbour-tools",)).ask("{ __schema { types { name } } }").status == 200
    assert Fleet().why('{ __type(name: "Vessel") { ' + "name " * 2000 + "} }")[0] == "over-graphql-limit"
    blind = Fleet(limits(), schema="")
    assert isinstance(blind.ask("{ __schema { types { name } } anything { goes } }"), Passed)


# records and policies


def test_a_call_is_recorded_with_what_it_asked_and_never_with_values() -> None:
    fleet = Fleet(limits())
    fleet.ask('query Boat($n: Int) { vessels(first: $n) { name } vessel(name: "secret") { name } }', n=3)
    record = Record(*record_of(fleet.call, "production", "n1"))
    assert (record.graph_operation, record.graph_depth, record.graph_cost) == ("query Boat", 2, 4)
    assert "secret" not in repr(record)
    fleet.ask("{ vessels { name } port(code: 7) { code } }")
    assert Record(*record_of(fleet.call, "production", "n1")).graph_operation == "query vessels, port"


@pytest.mark.parametrize("rule", ["Berth", "Berth.*", "Berth.*: all", "Berth.*: plans", "Berth.*: plans A B", "a.b.c: nobody",
                                  "Berth.*: groups X!"])  # fmt: skip
def test_a_rule_that_is_none_is_refused_with_an_example(rule: str) -> None:
    with pytest.raises(ValidationError):
        GraphqlFields.model_validate({"rules": [rule]})


@pytest.mark.parametrize(
    "weight", ["vessels: 3", "Query.vessels", "Query.vessels: -1", "Query.*: 3", "Query.vessels: 1234567"]
)
def test_a_weight_that_is_none_is_refused(weight: str) -> None:
    with pytest.raises(ValidationError):
        GraphqlLimits.model_validate({"weights": [weight]})


# metering by cost


def metered(**cost: Any) -> Fleet:
    limit = {"kind": "rate-limit", "windows": ["100 per minute"]}
    return Fleet(limits(cost=0, weights=["Query.vessels: 2"]), {"kind": "cost", "by_graphql": True} | cost, limit)


def test_calls_count_as_their_documents_cost_and_fields_tell_what_is_left() -> None:
    fleet = metered()
    fleet.ask("query Q($n: Int) { vessels(first: $n) { name } }", n=15)
    assert [cost for _, _, cost in fleet.call.asked] == [30, 30]
    assert b";r=70" in fleet.call.own_fields()
    outcomes = [fleet.ask(NAMES) for _ in range(4)]
    assert [isinstance(one, Refusal) for one in outcomes] == [False, False, False, True]
    assert outcomes[-1].reason.code == "over-rate"


def test_a_document_dearer_than_a_limit_takes_all_of_it_and_no_document_counts_below_the_least() -> None:
    fleet = metered()
    assert isinstance(fleet.ask("query Q($n: Int) { vessels(first: $n) { name } }", n=500), Passed)
    assert isinstance(fleet.ask(NAMES), Refusal)
    fleet = metered(counts_as=7)
    fleet.ask('{ vessel(name: "x") { name } }')
    assert fleet.call.asked[0][2] == 7
    bare = Fleet({"kind": "cost", "by_graphql": True}, {"kind": "rate-limit", "windows": ["100 per minute"]})
    bare.ask(NAMES)
    assert bare.call.asked[0][2] == 10


# ways round


@pytest.mark.parametrize("name", ["query", "qu%65ry", "variables", "operationName", "extensions", "documentId"])
def test_a_post_is_not_asked_for_by_its_address_too(name: str) -> None:
    fleet = Fleet(fields("Vessel.oldName: nobody"))
    body = orjson.dumps({"query": NAMES})
    outcome = fleet.send("POST", body, b"a=1&" + name.encode() + b"=%7B%20vessels%20%7B%20oldName%20%7D%20%7D")
    assert isinstance(outcome, Refusal) and "in the body" in outcome.detail and fleet.sent == []
    assert isinstance(fleet.send("POST", body, b"trial=1&queries=2"), Passed)


def test_a_get_has_no_body_and_members_that_nobody_knows_are_not_sent_on() -> None:
    fleet = Fleet()
    outcome = fleet.send("GET", b'{"query":"{ vessels { oldName } }"}', urlencode({"query": NAMES}).encode())
    assert isinstance(outcome, Refusal) and "no body" in outcome.detail
    fleet.send("POST", orjson.dumps({"query": NAMES, "id": "x", "queryId": "y", "extensions": {"a": 1}}))
    assert orjson.loads(fleet.sent[-1][1]) == {"query": NAMES, "extensions": {"a": 1}}


def test_a_batch_has_together_as_many_tokens_as_one_document_and_repeated_ones_are_read_once() -> None:
    fleet = Fleet(limits(batch=50, fields=100_000, cost=0, aliases=10_000, roots=1_000, longest=100_000))
    long = "{ " + " ".join(f"a{n}: vessels {{ name }}" for n in range(400)) + " }"
    assert isinstance(fleet.send("POST", orjson.dumps([{"query": long}] * 10)), Passed)
    others = [{"query": long.replace("name", f"v{n}: name")} for n in range(10)]
    outcome = Fleet(limits(batch=50)).send("POST", orjson.dumps(others))
    assert isinstance(outcome, Refusal) and outcome.reason.code == "over-graphql-limit"
    assert all(isinstance(fleet.send("POST", orjson.dumps(one)), Passed) for one in others), (
        "each by itself is let through"
    )


def test_what_is_wrong_with_a_document_is_kept_as_well() -> None:
    documents = Documents(graph_of(SDL))
    problems = []
    for _ in range(2):
        with pytest.raises(DocumentProblem) as caught:
            documents.read("{ nothing }")
        problems.append(caught.value)
    assert problems[0] is problems[1]


def test_fields_are_closed_where_the_schema_is_not_known() -> None:
    code, said = Fleet(fields("Berth.*: nobody"), schema="").why("{ anything { goes } }")
    assert code == "closed-field" and "the schema is not known" in said
