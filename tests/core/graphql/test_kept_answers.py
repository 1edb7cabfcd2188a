"""Answers to queries are kept by document, operation and variables; what changes something is never."""

from typing import Any

import orjson
import pytest

from core.graphql.fleet import Fleet

KEPT = {"kind": "response-cache", "how_long": "for a time of its own, whatever the backend says", "own_time": 60}
BY_NUMBER = "query Q($n: Int) { vessels(first: $n) { name } }"


def asked(fleet: Fleet, *bodies: dict[str, Any]) -> int:
    """How often the backend is asked for some requests."""
    before = len(fleet.sent)
    for body in bodies:
        fleet.send("POST", orjson.dumps(body))
    return len(fleet.sent) - before


def test_the_same_document_with_the_same_variables_is_asked_for_once() -> None:
    fleet = Fleet(KEPT)
    two = {"query": BY_NUMBER, "variables": {"n": 2}}
    assert asked(fleet, two, two, {"variables": {"n": 2}, "query": BY_NUMBER}) == 1
    assert fleet.call.cache == "hit" and b"vessels" not in fleet.call.lookup.key
    assert asked(fleet, {"query": BY_NUMBER, "variables": {"n": 3}}, {"query": BY_NUMBER}) == 2
    both = "query A { vessels { name } } query B { vessels { oldName } }"
    assert asked(fleet, *({"query": both, "operationName": name} for name in "ABAB")) == 2


@pytest.mark.parametrize("document", ["mutation { hold(berth: 1) { code } }"])
def test_what_changes_something_is_never_kept_and_makes_what_is_kept_invalid(document: str) -> None:
    fleet = Fleet(KEPT)
    names = {"query": "{ vessels { name } }"}
    assert asked(fleet, names, names) == 1
    assert asked(fleet, {"query": document}, {"query": document}) == 2
    assert "mutation" in fleet.call.note_of_cache
    assert asked(fleet, names) == 1


def test_a_closed_field_is_refused_though_an_answer_with_it_is_kept() -> None:
    fleet = Fleet(KEPT | {"whose": "the same for all callers"}, {"kind": "graphql-fields", "rules": ["Vessel.oldName: groups harbour"]},
                  groups=("harbour",))  # fmt: skip
    document = {"query": "{ vessels { oldName } }"}
    assert asked(fleet, document, document) == 1
    fleet.leave_groups()
    assert fleet.why("{ vessels { oldName } }")[0] == "closed-field"
