"""Policies on a field of a graph hold for calls whose documents ask for it, beside all others; and for no other call."""

from typing import Any

import orjson
import pytest

from core.graphql.fleet import Fleet
from core.graphql.test_rest_view import VIEWS
from helpers import configuration
from tamarack.core.carrying.refusals import Refusal
from tamarack.core.configuration.difference import difference
from tamarack.core.configuration.explain import explain, explain_outside
from tamarack.core.configuration.layers import all_limits
from tamarack.core.configuration.model import Configuration, check
from tamarack.core.configuration.possible_refusals import possible_refusals

NAMES, OLD = "{ vessels { name } }", "{ vessels { oldName } }"
ONE_A_MINUTE = {"kind": "rate-limit", "windows": ["1 per minute"]}


def on(field: str, *policies: dict[str, Any]) -> list[dict[str, Any]]:
    return [{"call": f"field {field}", "policies": list(policies)}]


def test_a_limit_on_a_field_counts_the_calls_that_ask_for_it() -> None:
    fleet = Fleet({"kind": "rate-limit", "windows": ["5 per minute"]}, fields=on("Vessel.oldName", ONE_A_MINUTE))
    assert [fleet.why(one)[0] for one in (NAMES, OLD, NAMES, OLD, NAMES)] == ["", "", "", "over-rate", ""]
    assert "The limit 'rate-limit' on Vessel.oldName, 1 per minute, is used up" in fleet.why(OLD)[1]
    assert [fleet.why(NAMES)[0] for _ in range(2)] == ["", "over-rate"]  # the API's own counts all that were let in


def test_a_whole_type_is_asked_for_by_any_field_of_it_by_an_alias_or_behind_an_interface() -> None:
    group = {"kind": "groups", "allow": ["harbour-staff"]}
    fleet = Fleet(fields=on("Berth.*", group))
    for document in ("{ port(code: 1) { berths { length } } }", "{ port(code: 1) { b: berths { __typename } } }",
                     "{ place(id: 1) { code } }", "mutation { hold(berth: 1) { title } }"):  # fmt: skip
        assert fleet.why(document)[0] == "not-in-group"
    assert fleet.why("{ port(code: 1) { code } }") == ("", "") and fleet.why(NAMES) == ("", "")
    staff = Fleet(fields=on("Berth.*", group), groups=("harbour-staff",))
    assert staff.why("{ port(code: 1) { berths { length } } }") == ("", "")


def test_requests_and_answers_are_changed_and_given_for_those_calls_alone() -> None:
    policies = ({"kind": "request-fields", "edits": ["set header x-old: yes"]},
                {"kind": "answer-fields", "edits": ['set header deprecation: "@1"']})  # fmt: skip
    fleet = Fleet(fields=on("Vessel.oldName", *policies))
    old, new = fleet.ask(OLD), fleet.ask(NAMES)
    assert b"deprecation" in old.fields and b"deprecation" not in new.fields and b"x-old" not in fleet.head
    fleet.ask(OLD)
    assert b"x-old: yes" in fleet.head
    closed = Fleet(fields=on("Query.search", {"kind": "fixed-answer", "status": 503, "body": "{}"}))
    assert closed.ask('{ search(text: "a") { __typename } }').status == 503 and closed.why(NAMES) == ("", "")


def test_a_view_of_a_document_asks_for_its_fields_and_a_batch_for_those_of_each() -> None:
    fleet = Fleet({"kind": "graphql-limits", "batch": 3}, fields=on("Vessel.crossings", ONE_A_MINUTE), views=VIEWS)
    fleet.answers({"data": {"vessel": {}}})
    calls = [fleet.send("GET", path=b"/vessels/tern") for _ in range(2)]
    assert isinstance(calls[1], Refusal) and calls[1].reason.code == "over-rate"
    both = [{"query": NAMES}, {"query": "{ vessels { crossings { id } } }"}]
    batch = Fleet({"kind": "graphql-limits", "batch": 3}, fields=on("Vessel.crossings", ONE_A_MINUTE))
    ended = [batch.send("POST", orjson.dumps(both)) for _ in range(2)]
    assert not isinstance(ended[0], Refusal) and isinstance(ended[1], Refusal)


def test_without_a_schema_every_call_may_ask_for_it() -> None:
    fleet = Fleet(schema="", fields=on("Vessel.oldName", ONE_A_MINUTE))
    assert [fleet.why(NAMES)[0] for _ in range(2)] == ["", "over-rate"]


def graph(fields: list[dict[str, Any]], style: str = "graphql") -> Configuration:
    made = configuration(version={"operations": [{"call": "post /"}], "fields": fields})
    return made.model_copy(update={"apis": (made.apis[0].model_copy(update={"style": style}),)})


@pytest.mark.parametrize(
    ("fields", "style", "said"),
    [
        (on("Vessel.oldName", {"kind": "api-key"}), "graphql", "cannot stand on a field"),
        (on("Vessel.oldName", {"kind": "response-cache"}), "graphql", "Response cache cannot stand on a field"),
        (on("Vessel.oldName", ONE_A_MINUTE), "rest", "Sailings is no GraphQL API"),
        (on("Vessel.oldName", ONE_A_MINUTE) * 2, "graphql", "stands there twice"),
        ([{"call": "get /x"}], "graphql", "is an operation, not a field"),
    ],
)  # fmt: skip
def test_what_cannot_stand_on_a_field_is_told(fields: list[dict[str, Any]], style: str, said: str) -> None:
    assert any(said in problem.message for problem in check(graph(fields, style)))
    with pytest.raises(ValueError, match="no field of a graph"):
        graph(on("Vessel", ONE_A_MINUTE))


def test_pages_reviews_and_files_know_of_them() -> None:
    before, after = graph([]), graph(on("Vessel.oldName", ONE_A_MINUTE))
    api, version = after.apis[0], after.apis[0].versions[0]
    assert check(after) == []
    told = "Where a document asks for `Vessel.oldName`: Each caller may call once a minute."
    assert told in [one.text for one in explain(after, api, version)]
    assert told in [one.text for one in explain_outside(after, api, version, version.operations[0])]
    field = version.place("field Vessel.oldName")
    assert told.partition(": ")[2] in [one.text for one in explain(after, api, version, field)]
    assert any("field Vessel.oldName" in change.subject for change in difference(before, after))
    limit = next(one for one in all_limits(after, "production") if one.name == "rate-limit")
    assert limit.where.endswith("field Vessel.oldName") and limit.covers
    fewer = on("Vessel.oldName", ONE_A_MINUTE | {"windows": ["100 per minute"], "name": "fewer"})
    whole = {"kind": "rate-limit", "windows": ["500 per minute"], "name": "whole"}
    both = configuration(version={"operations": [{"call": "post /"}], "policies": [whole], "fields": fewer})
    limits = all_limits(both, "production")
    assert (
        next(one for one in limits if one.name == "whole").notes == []
    )  # the field's counts some of those calls alone
    assert "over-rate" in {reason.code for reason in possible_refusals(after, api, version, version.operations[0])}
    assert Configuration.model_validate(after.model_dump(mode="json")) == after
