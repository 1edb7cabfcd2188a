"""What is closed comes back null with an error, as if the service itself had refused the field, and is not asked for."""

import re
from typing import Any

import orjson
import pytest
from graphql import (
    GraphQLError,
    execute,
    get_named_type,
    is_abstract_type,
    is_leaf_type,
    is_list_type,
    is_non_null_type,
    parse,
    validate,
)
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from core.graphql.fleet import SDL, Fleet
from core.graphql.test_documents import GRAPH, documents
from tamarack.core.carrying.parts import Reply
from tamarack.core.carrying.refusals import Refusal
from tamarack.core.graphql.calls.asked import Closed
from tamarack.core.graphql.closed.filling import MOST_ERRORS, Filling
from tamarack.core.graphql.closed.withheld import without
from tamarack.core.graphql.document import read
from tamarack.core.policies.permit.graphql_fields import FieldRule, Standing, closed_to

PLACE = "{ place(id: 1) { code } }"
RULES = ["Berth.*", "Vessel.oldName", "Port.berths", "Place.code", "Crossing.vessel", "Port.code", "Vessel.*",
         "Query.vessels", "Berth.code", "Found.*", "Port.*"]  # fmt: skip


class Service:
    """A service of the schema that answers everything, and may refuse fields by itself."""

    def __init__(self, closed: Closed | None = None) -> None:
        self.closed = closed
        self.asked: set[str] = set()

    def run(self, text: str, variables: dict[str, Any] | None = None) -> Any:
        return execute(GRAPH.schema, parse(text), {}, variable_values=variables, field_resolver=self.field).formatted

    def field(self, source: Any, info: Any, **arguments: Any) -> Any:
        kind, name = info.parent_type, info.field_name
        of = get_named_type(info.return_type).name
        names = (f"{kind.name}.{name}", *(f"{one.name}.{name}" for one in kind.interfaces), f"{of}.__typename")
        self.asked.add(names[0])
        if self.closed is not None and any(map(self.closed, names)):
            raise GraphQLError(f"{names[0]} is closed")
        return self.value(info.return_type, name, len(info.path.as_list()))

    def value(self, kind: Any, name: str, number: int) -> Any:
        if is_non_null_type(kind):
            return self.value(kind.of_type, name, number)
        if is_list_type(kind):
            return [self.value(kind.of_type, name, number + place) for place in range(2)]
        if is_abstract_type(kind):
            types = GRAPH.schema.get_possible_types(kind)
            return {"__typename": types[number % len(types)].name}
        return 1.5 if kind.name == "Float" else name if is_leaf_type(kind) else {"__typename": kind.name}


def without_conflicts(text: str) -> str:
    """A document whose fields of one name are all asked for alike."""
    return re.sub(r"\b([ab]): (\w+)", r"\1_\2: \2", re.sub(r"\((?:first|last|limit): \d\)", "", text))


@settings(max_examples=70)
@given(documents().map(without_conflicts), st.sets(st.sampled_from(RULES), min_size=1, max_size=3))
def test_an_answer_is_that_of_a_service_which_refuses_the_fields_by_itself(text: str, rules: set[str]) -> None:
    assume(all("is never used" in one.message for one in validate(GRAPH.schema, parse(text))))
    closed = closed_to([FieldRule.model_validate(f"{rule}: nobody") for rule in sorted(rules)], Standing())
    (operation,) = read(text, GRAPH).operations
    hidden = frozenset(filter(closed, operation.used))
    left = without(text, "", GRAPH, hidden.__contains__)
    behind = Service()
    answered = behind.run(left.text) if left.text else {"data": {}}
    if left.text:
        assert [str(one) for one in validate(GRAPH.schema, parse(left.text))] == []
    filling = Filling(GRAPH, left, {})
    whole = Service(closed).run(text)
    assert filling.data(answered["data"]) == whole["data"]
    assert {tuple(one["path"]) for one in whole.get("errors", [])} <= {one.path for one in filling.errors}
    statically = {rule for rule in rules if not rule.endswith("*") and rule != "Berth.code" and rule != "Port.code"}
    assert behind.asked.isdisjoint(statically)


def fields(*rules: str, **more: Any) -> dict[str, Any]:
    return {"kind": "graphql-fields", "rules": list(rules), "closed": "comes back null"} | more


def told(outcome: Any) -> Any:
    assert not isinstance(outcome, Refusal), outcome
    return orjson.loads(outcome.body)


def test_a_closed_field_comes_back_null_with_an_error_and_is_not_asked_for() -> None:
    fleet = Fleet(fields("Vessel.oldName: nobody")).answers({"data": {"vessel": {"name": "tern"}}}, (b"etag", b'"7"'))
    outcome = fleet.ask('query Q { vessel(name: "x") { name oldName } }', (b"accept-encoding", b"gzip"))
    assert told(outcome) == {
        "data": {"vessel": {"name": "tern", "oldName": None}},
        "errors": [{
            "message": "`oldName` of `Vessel` is not open to the plan skiff.",
            "locations": [{"line": 1, "column": 36}],
            "path": ["vessel", "oldName"],
            "extensions": {"reason": "closed-field", "call_id": fleet.call.id.decode()},
        }],
    }  # fmt: skip
    sent = orjson.loads(fleet.sent[-1][1])
    assert set(sent) == {"query"} and "oldName" not in sent["query"]
    assert b"etag" not in outcome.fields and (b"accept-encoding", b"gzip") not in fleet.call.headers
    assert fleet.call.note == "not told: Vessel.oldName"


def test_what_is_open_passes_as_it_came_and_is_not_held_back() -> None:
    fleet = Fleet(fields("Vessel.oldName: nobody")).answers(b'{"data" : {} }')
    outcome = fleet.ask("{ vessels { name } }")
    assert (outcome.body, fleet.call.note) == (b'{"data" : {} }', "")
    operation = fleet.call.operation
    assert operation is not None and operation.reads_answer == 0


def test_where_null_is_not_allowed_the_value_around_it_is_null() -> None:
    fleet = Fleet(fields("Port.berths: nobody")).answers({"data": {"a": {"code": "x"}, "b": {"name": "tern"}}})
    answer = told(fleet.ask('{ a: port(code: "x") { code berths { code } } b: vessel(name: "y") { name } }'))
    assert answer["data"] == {"a": None, "b": {"name": "tern"}}
    assert [one["path"] for one in answer["errors"]] == [["a", "berths"]]


@pytest.mark.parametrize(("method", "batch"), [("POST", False), ("POST", True), ("GET", False)])
def test_where_nothing_is_left_no_backend_is_asked(method: str, batch: bool) -> None:
    fleet = Fleet(fields("Query.vessel: nobody"))
    document = {"query": 'query Q { vessel(name: "x") { name } }'}
    body = orjson.dumps([document] if batch else document) if method == "POST" else b""
    outcome = fleet.send(method, body, b"" if body else b"query=%7Bvessel(name:%22x%22)%7Bname%7D%7D")
    assert isinstance(outcome, Reply) and fleet.sent == []
    (one,) = told(outcome) if batch else [told(outcome)]
    assert one["data"] == {"vessel": None} and one["errors"][0]["path"] == ["vessel"]


def test_a_change_that_is_closed_never_reaches_the_backend_and_those_beside_it_do() -> None:
    schema = SDL.replace("type Mutation {", "type Mutation { free(berth: ID!): Boolean")
    fleet = Fleet(fields("Mutation.free: nobody"), schema=schema).answers({"data": {"hold": {"code": "x"}}})
    answer = told(fleet.ask("mutation M { free(berth: 1) hold(berth: 1) { code } }"))
    assert answer["data"] == {"free": None, "hold": {"code": "x"}} and list(answer["data"]) == ["free", "hold"]
    assert b"free" not in fleet.sent[-1][1]


def test_each_document_of_a_batch_is_answered_in_its_place() -> None:
    fleet = Fleet(fields("Query.vessel: nobody", "Vessel.oldName: nobody"), {"kind": "graphql-limits", "batch": 3})
    fleet.answers(
        [{"data": {"vessels": [{}, {}]}}, {"data": {"vessels": [{"name": "tern"}]}, "errors": [{"message": "m"}]}]
    )
    texts = ["{ vessels { oldName } }", '{ vessel(name: "x") { name } }', "{ vessels { name } }"]
    answers = told(fleet.send("POST", orjson.dumps([{"query": text} for text in texts])))
    assert [one["data"] for one in answers] == [
        {"vessels": [{"oldName": None}, {"oldName": None}]}, {"vessel": None}, {"vessels": [{"name": "tern"}]}
    ]  # fmt: skip
    assert [[error["message"][:9] for error in one["errors"]] for one in answers] == [
        ["`oldName`"] * 2,
        ["`vessel` "],
        ["m"],
    ]
    assert len(orjson.loads(fleet.sent[-1][1])) == 2


def test_what_is_left_is_a_document_of_its_own() -> None:
    fleet = Fleet(fields("Berth.*: nobody")).answers({"data": {"vessels": []}})
    document = """
      query Unused { vessels { name } }
      query Q($n: Int, $code: ID!) { ...Ports vessels(first: $n) { name } place(id: $code) { code } }
      fragment Ports on Query { port(code: $code) { ...Berths } }
      fragment Berths on Port { berths { length } }
    """
    body = {"query": document, "operationName": "Q", "variables": {"n": 2, "code": "x", "more": 1},
            "extensions": {"digest": "of the whole"}}  # fmt: skip
    fleet.send("POST", orjson.dumps(body))
    sent = orjson.loads(fleet.sent[-1][1])
    assert sent["variables"] == {"n": 2, "code": "x"} and "extensions" not in sent
    assert "Unused" not in sent["query"] and "Berths" not in sent["query"]
    assert validate(GRAPH.schema, parse(sent["query"])) == []


@pytest.mark.parametrize(("skipped", "data"), [(True, {"name": "x"}), (False, {"name": "x", "oldName": None})])
def test_what_is_not_asked_for_by_its_condition_is_not_told_of(skipped: bool, data: Any) -> None:
    fleet = Fleet(fields("Vessel.oldName: nobody")).answers({"data": {"vessel": {"name": "x"}}})
    document = 'query Q($s: Boolean = true) { vessel(name: "x") { name oldName @skip(if: $s) ... @include(if: false) { b: oldName } } }'
    answer = told(fleet.ask(document, s=skipped) if not skipped else fleet.ask(document))
    assert answer["data"] == {"vessel": data} and ("errors" in answer) is not skipped


def test_of_an_interface_the_types_that_are_open_are_told() -> None:
    fleet = Fleet(fields("Berth.code: nobody"))
    for kind, data in (("Port", {"code": "x"}), ("Berth", None)):
        fleet.answers({"data": {"place": {"code": "x", "_tamarackType": kind}}})
        assert told(fleet.ask("{ place(id: 1) { code } }"))["data"] == {"place": data}


@pytest.mark.parametrize(
    ("reply", "said"),
    [
        (([], ()), "no object"), (({"data": 7}, ()), "its data is no object"), ((b"{", ()), "no JSON"),
        (({"data": {"place": {"code": "x"}}}, ()), "place does not tell its type"),
        (({"data": {"place": {"code": "x", "_tamarackType": "Lamp"}}}, ()), "place does not tell its type"),
        (({"data": {"place": "all of it"}}, ()), "place is no object"),
        (({"data": {}, "errors": 7}, ()), "its errors are no list"),
        (({"data": {}}, ((b"content-encoding", b"gzip"),)), "compressed"),
        (({"data": {}}, ((b"content-type", b"text/html"),)), "no JSON"),
    ],
)  # fmt: skip
def test_an_answer_in_which_nothing_can_be_told_apart_is_held_back(reply: Any, said: str) -> None:
    body, headers = reply
    fleet = Fleet(fields("Berth.code: nobody")).answers(body, *headers)
    outcome = fleet.ask(PLACE)
    assert isinstance(outcome, Refusal) and outcome.reason.code == "answer-unreadable" and said in outcome.note
    assert not isinstance(fleet.answers(b"<p>", (b"content-type", b"text/html"), status=503).ask(PLACE), Refusal)


def test_two_policies_close_together_and_a_refusal_goes_before() -> None:
    fleet = Fleet(fields("Vessel.oldName: nobody"), fields("Port.title: nobody", name="titles")).answers(
        {"data": {"port": {"code": "x"}, "vessel": {"name": "y"}}})  # fmt: skip
    answer = told(fleet.ask('{ port(code: "x") { code title } vessel(name: "y") { name oldName } }'))
    assert answer["data"] == {"port": {"code": "x", "title": None}, "vessel": {"name": "y", "oldName": None}}
    assert len(answer["errors"]) == 2
    schema = told(
        fleet.ask('{ a: __type(name: "Vessel") { fields { name } } b: __type(name: "Port") { fields { name } } }')
    )
    shown = {field["name"] for kind in schema["data"].values() for field in kind["fields"]}
    assert shown == {"name", "crossings", "code", "berths", "near"}
    both = Fleet(
        fields("Vessel.oldName: nobody"), {"kind": "graphql-fields", "name": "b", "rules": ["Port.title: nobody"]}
    )
    assert both.why('{ port(code: "x") { title } vessel(name: "y") { oldName } }')[0] == "closed-field"


def test_a_subscription_is_refused_as_a_whole() -> None:
    schema = SDL + "type Subscription { sailed: Vessel }"
    fleet = Fleet(fields("Vessel.oldName: nobody"), schema=schema)
    assert fleet.why("subscription S { sailed { oldName } }")[0] == "closed-field"


def test_an_answer_kept_for_all_callers_holds_what_each_may_see() -> None:
    kept = {"kind": "response-cache", "how_long": "for a time of its own, whatever the backend says", "own_time": 60,
            "whose": "the same for all callers"}  # fmt: skip
    fleet = Fleet(kept, fields("Vessel.oldName: groups harbour"), groups=("harbour",))
    fleet.answers({"data": {"vessel": {"name": "y", "oldName": "z"}}})
    document = '{ vessel(name: "y") { name oldName } }'
    assert told(fleet.ask(document))["data"]["vessel"]["oldName"] == "z"
    fleet.leave_groups()
    for _ in range(2):
        fleet.answers({"data": {"vessel": {"name": "y"}}})
        assert told(fleet.ask(document))["data"]["vessel"] == {"name": "y", "oldName": None}
    assert (fleet.call.cache, len(fleet.sent)) == ("hit", 2)


def test_errors_are_told_one_by_one_up_to_a_number() -> None:
    many = MOST_ERRORS + 50
    fleet = Fleet(fields("Vessel.oldName: nobody")).answers({"data": {"vessels": [{"name": "y"}] * many}})
    answer = told(fleet.ask("{ vessels { name oldName } }"))
    assert len(answer["data"]["vessels"]) == many and len(answer["errors"]) == MOST_ERRORS + 1
    assert answer["errors"][-1]["message"] == "50 more places are not open to the plan skiff."
