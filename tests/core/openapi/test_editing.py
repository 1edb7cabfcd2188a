"""Editing a description in place: what is edited changes, and nothing else is said otherwise than before."""

import json
from pathlib import Path
from typing import Any

import pytest

from tamarack.core.comparing.compare import compare, worst
from tamarack.core.openapi.editing import (
    KINDS,
    NotEditable,
    OperationEdit,
    ParameterEdit,
    describable,
    editable,
    edited,
    new_document,
    without,
)
from tamarack.core.openapi.read import describe
from tamarack.core.openapi.reference import outline
from tamarack.demo.seed import CONFIGURATION

DOCUMENTS = sorted((CONFIGURATION / "documents").glob("*.yaml"))
SHARED: dict[str, Any] = {
    "openapi": "3.1.0",
    "info": {"title": "Berths", "version": "1"},
    "paths": {
        "/berths/{id}": {
            "summary": "One berth",
            "parameters": [{"name": "id", "in": "path", "required": True, "schema": {"type": "string", "minLength": 3}},
                           {"$ref": "#/components/parameters/Port"}],
            "get": {"tags": ["berths"], "operationId": "berth", "responses": {"200": {"description": "The berth"}},
                    "parameters": [{"name": "port", "in": "query", "schema": {"enum": ["aldernes", "corran"]}}]},
            "delete": {"responses": {"204": {"description": "Gone"}}},
        },
    },
    "components": {"parameters": {"Port": {"name": "port", "in": "query", "schema": {"type": "string"}}}},
    "x-kept": {"as": "it is"},
}  # fmt: skip


def change(document: dict[str, Any], of: str, /, **changes: Any) -> dict[str, Any]:
    """An operation edited: what is not named stays as it stands."""
    as_it_is = editable(document, of)
    values = {name: getattr(as_it_is, name) for name in ("call", "summary", "description", "deprecated", "parameters")}
    return edited(document, of, OperationEdit(**values | changes))


def calls(document: dict[str, Any]) -> list[str]:
    return [one.call for one in outline(document)]


@pytest.mark.parametrize("path", DOCUMENTS, ids=lambda path: path.stem)
def test_an_operation_saved_as_it_stands_says_the_same(path: Path) -> None:
    document = describe(path.read_text()).document
    before = json.dumps(document)
    for call in calls(document):
        after = change(document, call)
        assert compare(document, after) == []
        assert calls(after) == calls(document)
        again = describe(json.dumps(after))
        assert [problem.message for problem in again.problems if problem.severity == "error"] == []
    assert json.dumps(document) == before  # the one that was given is not touched


def test_parameters_of_a_path_become_each_operations_own() -> None:
    assert [(p.name, p.place, p.kind) for p in editable(SHARED, "get /berths/{id}").parameters] == [
        ("id", "path", "as described"), ("port", "query", "as described"),
    ]  # fmt: skip
    after = change(SHARED, "get /berths/{id}", parameters=editable(SHARED, "get /berths/{id}").parameters[:1])
    item = after["paths"]["/berths/{id}"]
    assert "parameters" not in item
    assert [one["name"] for one in item["get"]["parameters"]] == ["id"]
    assert [one["name"] for one in item["delete"]["parameters"]] == ["id", "port"]
    assert item["summary"] == "One berth"
    assert item["get"]["parameters"][0]["schema"] == {"type": "string", "minLength": 3}
    assert after["x-kept"] == SHARED["x-kept"]


def test_words_are_set_and_taken_away() -> None:
    after = change(SHARED, "get /berths/{id}", summary="A berth", description="**One** of many", deprecated=True)
    operation = after["paths"]["/berths/{id}"]["get"]
    assert (operation["summary"], operation["description"], operation["deprecated"]) == (
        "A berth",
        "**One** of many",
        True,
    )
    assert operation["operationId"] == "berth"
    back = change(after, "get /berths/{id}", summary="", description="", deprecated=False)
    assert {"summary", "description", "deprecated"} & set(back["paths"]["/berths/{id}"]["get"]) == set()


def test_an_operation_moves_to_another_path_with_its_parameters() -> None:
    after = change(SHARED, "get /berths/{id}", call="get /places/{code}")
    assert calls(after) == ["get /places/{code}", "delete /berths/{id}"] or calls(after) == [
        "delete /berths/{id}", "get /places/{code}",
    ]  # fmt: skip
    moved = after["paths"]["/places/{code}"]["get"]["parameters"]
    assert [(one["name"], one["in"]) for one in moved] == [("code", "path"), ("port", "query")]
    assert moved[0]["schema"] == {"type": "string", "minLength": 3}  # the same place, called otherwise
    alone = change(without(SHARED, "delete /berths/{id}"), "get /berths/{id}", call="head /berths")
    assert list(alone["paths"]) == ["/berths"]
    assert [one["name"] for one in alone["paths"]["/berths"]["head"]["parameters"]] == ["port"]
    added = change(SHARED, "get /berths/{id}", call="get /quays/{quay}/berths/{id}")
    names = [one["name"] for one in added["paths"]["/quays/{quay}/berths/{id}"]["get"]["parameters"]]
    assert sorted(names) == ["id", "port", "quay"]


@pytest.mark.parametrize("kind", KINDS)
def test_a_parameter_is_added_and_judged_as_any_other_change(kind: str) -> None:
    parameters = editable(SHARED, "get /berths/{id}").parameters
    optional = change(SHARED, "get /berths/{id}", parameters=(*parameters, ParameterEdit("tide", "query", kind)))
    assert worst(compare(SHARED, optional)) == "harmless"
    needed = change(SHARED, "get /berths/{id}", parameters=(*parameters, ParameterEdit("tide", "query", kind, True)))
    assert worst(compare(SHARED, needed)) == "breaking"
    added = editable(needed, "get /berths/{id}").parameters[-1]
    assert (added.name, added.place, added.kind, added.required) == ("tide", "query", kind, True)


def test_a_parameter_that_changes_its_place_or_kind_keeps_the_rest() -> None:
    document = change(SHARED, "get /berths/{id}", parameters=(
        *editable(SHARED, "get /berths/{id}").parameters[:1],
        ParameterEdit("X-Port", "header", description="Where", was=("query", "port")),
    ))  # fmt: skip
    made = document["paths"]["/berths/{id}"]["get"]["parameters"][1]
    assert made == {
        "name": "X-Port",
        "in": "header",
        "description": "Where",
        "schema": {"enum": ["aldernes", "corran"]},
    }
    whole = change(document, "get /berths/{id}", parameters=(
        *editable(document, "get /berths/{id}").parameters[:1],
        ParameterEdit("X-Port", "header", "whole number", was=("header", "X-Port")),
    ))  # fmt: skip
    assert whole["paths"]["/berths/{id}"]["get"]["parameters"][1]["schema"] == {"type": "integer"}


def test_an_operation_is_added_to_a_document_that_begins() -> None:
    document = edited(new_document("Berths", "1"), "", OperationEdit("get /berths/{id}", "One berth"))
    described = describe(json.dumps(document))
    assert described.problems == []
    assert [(one.call, one.summary, one.parameters) for one in described.operations] == [
        ("get /berths/{id}", "One berth", 1)
    ]
    assert without(document, "get /berths/{id}")["paths"] == {}
    assert without(document, "get /nowhere") is document


@pytest.mark.parametrize(
    ("changes", "field", "words"),
    [
        ({"call": "any /berths"}, "call", "cannot be described"),
        ({"call": "get /berths/*"}, "call", "cannot be described"),
        ({"call": "delete /berths/{id}"}, "call", "is described already"),
        ({"parameters": (ParameterEdit("a b", "query"),)}, "parameters.0", "cannot be a parameter's name"),
        ({"parameters": (ParameterEdit("a", "body"),)}, "parameters.0", "is no place of a parameter"),
        ({"parameters": (ParameterEdit("a", "query", "colour"),)}, "parameters.0", "is no kind of value"),
        ({"parameters": (ParameterEdit("quay", "path"),)}, "parameters.0", "the path names no parameter 'quay'"),
        ({"parameters": (ParameterEdit("Accept", "header"),)}, "parameters.0", "the header Accept is no parameter"),
        ({"parameters": (ParameterEdit("a", "query"), ParameterEdit("a", "query"))}, "parameters.1", "two parameters"),
        ({"parameters": (ParameterEdit("a", "query"),) * 61}, "parameters", "at most 60"),
    ],
)
def test_what_cannot_be_described_is_refused_in_words(changes: dict[str, Any], field: str, words: str) -> None:
    with pytest.raises(NotEditable, match=words) as raised:
        change(SHARED, "get /berths/{id}", **changes)
    assert raised.value.field == field


def test_what_openapi_has_no_words_for_is_known() -> None:
    assert [describable(call) for call in ("get /", "any /", "get /*", "trace /a/{b}")] == [True, False, False, True]
