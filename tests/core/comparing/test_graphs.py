"""Schemas compared: what breaks documents that were written for the earlier one, what may, and what does not."""

import pytest

from tamarack.core.comparing.compare import compare, worst
from tamarack.core.comparing.rules import RULES
from tamarack.core.graphql.described import SCHEMA

BASE = """
type Query { vessels(first: Int = 4): [Vessel!]! found: Found }
type Vessel { name: ID! state: State crew: Int }
type Port { code: ID! }
enum State { MOORED SAILING }
union Found = Vessel
"""
EDITS = [
    ("crew: Int", "", "graph-broken", "Vessel.crew", "is gone"),
    ("crew: Int", "crew: String", "graph-broken", "Vessel.crew", "changed type from Int to String"),
    ("crew: Int", "crew: Int!", "graph-safe", "Vessel.crew", "changed type from Int to Int!"),
    ("crew: Int", "crew: Int berth: ID", "graph-safe", "Vessel.berth", "is new"),
    ("crew: Int", "crew(at: ID!): Int", "graph-broken", "Vessel.crew", "needs another argument: at"),
    ("crew: Int", "crew(at: ID): Int", "graph-risky", "Vessel.crew", "takes another argument: at"),
    ("crew: Int", "crew: Int @deprecated", "operation-deprecated", "Vessel.crew", "is deprecated now"),
    ("first: Int = 4", "first: Int = 9", "graph-risky", "Query.vessels", "has changed defaultValue from 4 to 9"),
    ("MOORED", "MOORED LOST", "graph-risky", "State.LOST", "was added"),
    (" MOORED", "", "graph-broken", "State.MOORED", "was removed"),
    ("= Vessel", "= Vessel | Port", "graph-risky", "schema", "Port was added to union type Found"),
    ("type Port { code: ID! }", "", "graph-broken", "schema", "Port was removed"),
]


def document(schema: str) -> dict[str, object]:
    return {"openapi": "3.1.0", "info": {"title": "Fleet", "version": "1"}, "paths": {}, SCHEMA: schema}


@pytest.mark.parametrize(("was", "now", "rule", "field", "what"), EDITS)
def test_each_change_is_of_its_field_and_judged(was: str, now: str, rule: str, field: str, what: str) -> None:
    found = compare(document(BASE), document(BASE.replace(was, now, 1)))
    mine = [one for one in found if one.call == field]
    assert mine and mine[0].rule == rule and mine[0].what == what, found
    assert worst(compare(document(BASE), document(BASE))) == "none"


def test_every_rule_of_graphs_is_met_and_unreadable_schemas_are_not_compared() -> None:
    assert {rule for _, _, rule, _, _ in EDITS} >= {rule for rule in RULES if rule.startswith("graph-")}
    for other in ("", "type Query {", "type Query { a: Lamp }"):
        assert compare(document(BASE), document(other)) == []
    assert compare(document(BASE), document('"""words"""\n' + BASE.strip())) == []
