"""Documents are answered from the schema alone: whole, valid, the same each time, and bounded."""

from typing import Any

import orjson
import pytest
from graphql import parse, validate
from hypothesis import assume, given, settings

from core.graphql.fleet import NEWER, SDL, Fleet
from core.graphql.test_documents import GRAPH, documents
from core.graphql.test_withheld import without_conflicts
from tamarack.core.carrying.refusals import Refusal
from tamarack.core.graphql.calls.mocked import MOST_VALUES

MOCK = {"kind": "mock"}


def told(fleet: Fleet, document: str, **variables: Any) -> Any:
    outcome = fleet.ask(document, NEWER, **variables)
    assert not isinstance(outcome, Refusal), outcome
    assert b"content-type: application/graphql-response+json" in outcome.fields
    return orjson.loads(outcome.body)


@settings(max_examples=30)
@given(documents().map(without_conflicts))
def test_any_document_is_answered_without_an_error_and_without_a_backend(text: str) -> None:
    assume(not validate(GRAPH.schema, parse(text)))
    fleet = Fleet(MOCK)
    outcome = fleet.ask(text)
    assert fleet.sent == []
    if isinstance(outcome, Refusal):
        assert outcome.reason.code == "over-graphql-limit"
    else:
        assert "errors" not in orjson.loads(outcome.body)
        assert outcome.body == fleet.ask(text).body


def test_lists_are_as_long_as_is_asked_and_values_are_those_of_the_arguments() -> None:
    document = (
        'query Q($n: Int) { vessel(name: "tern") { name crossings(last: $n) { id } } vessels(first: 3) { name } }'
    )
    data = told(Fleet(MOCK), document, n=4)["data"]
    assert (data["vessel"]["name"], len(data["vessel"]["crossings"]), len(data["vessels"])) == ("tern", 4, 3)
    assert len({one["name"] for one in data["vessels"]}) == 3


def test_scalars_and_enums_are_of_their_kind_and_a_batch_is_answered_in_order() -> None:
    schema = """scalar Date scalar Lamp enum Side { PORT STARBOARD }
    type Query { int: Int! real: Float yes: Boolean id: ID day: Date lamp: Lamp side: Side! many: [[Int!]!]! }"""
    fleet = Fleet(MOCK, {"kind": "graphql-limits", "batch": 2}, schema=schema)
    one = told(fleet, "{ int real yes id day lamp side many }")["data"]
    assert [type(one[name]) for name in ("int", "real", "yes", "id", "lamp")] == [int, float, bool, str, str]
    assert one["day"].startswith("2026-06-") and one["side"] in ("PORT", "STARBOARD") and len(one["many"][0]) == 2
    outcome = fleet.send("POST", orjson.dumps([{"query": "{ int }"}, {"query": "{ id }"}]))
    assert [list(answer["data"]) for answer in orjson.loads(outcome.body)] == [["int"], ["id"]]


@pytest.mark.parametrize(
    ("document", "code", "said"),
    [(f"{{ vessels(first: {MOST_VALUES}) {{ name }} }}", "over-graphql-limit", "4,000 made-up values"),
     ("subscription { sailed { name } }", "bad-graphql", "no made-up answers")],
)  # fmt: skip
def test_what_cannot_be_made_up_is_refused(document: str, code: str, said: str) -> None:
    fleet = Fleet(MOCK, schema=SDL + "type Subscription { sailed: Vessel }")
    reason, detail = fleet.why(document)
    assert reason == code and said in detail


def test_what_is_wrong_with_arguments_is_told_as_a_service_would_and_rules_go_before() -> None:
    fleet = Fleet(MOCK | {"rules": ['body /operationName equals Empty -> 200 {"data": null}']})
    assert "not provided" in told(fleet, "{ vessel { name } }")["errors"][0]["message"]
    outcome = fleet.ask("query Empty { vessels { name } }", operation="Empty")
    assert outcome.body == b'{"data": null}'


def test_what_is_closed_is_null_in_what_is_made_up_too() -> None:
    closed = {"kind": "graphql-fields", "rules": ["Vessel.oldName: nobody"], "closed": "comes back null"}
    answer = told(Fleet(MOCK, closed), '{ vessel(name: "tern") { name oldName } }')
    assert answer["data"] == {"vessel": {"name": "tern", "oldName": None}} and len(answer["errors"]) == 1
