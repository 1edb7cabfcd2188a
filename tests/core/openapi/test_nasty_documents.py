"""Documents that were made to harm, or only grew that way: nothing is fetched, nothing grows, nothing gets lost."""

import json
import re
import socket
import threading
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tamarack.core.documents.yaml_text import to_yaml
from tamarack.core.openapi.example_values import MOST_VALUES, example_of
from tamarack.core.openapi.publish import published
from tamarack.core.openapi.read import Description, describe
from tamarack.core.openapi.reference import outline, view_at, view_operation
from tamarack.core.openapi.schema_view import MOST_VIEWS, SchemaView, view_schema

Document = dict[str, Any]
ANSWERS = {"200": {"description": "ok"}}


def document(schemas: Document | None = None, paths: Document | None = None, version: str = "3.1.0") -> Document:
    return {
        "openapi": version,
        "info": {"title": "T", "version": "1"},
        "paths": paths or {"/a": {"get": {"responses": ANSWERS}}},
        "components": {"schemas": schemas or {}},
    }


def read(data: Document) -> Description:
    return describe(json.dumps(data))


def messages(description: Description) -> str:
    return "\n".join(f"{one.line} {one.path} {one.message}" for one in description.problems)


@pytest.fixture
def watched() -> Iterator[tuple[str, list[bytes]]]:
    """An address that notes whoever asks it."""
    asked: list[bytes] = []
    with socket.socket() as listener:
        listener.bind(("127.0.0.1", 0))
        listener.listen()

        def answer() -> None:
            while True:
                try:
                    connection, _ = listener.accept()
                except OSError:
                    return
                with connection:
                    asked.append(connection.recv(100))

        threading.Thread(target=answer, daemon=True).start()
        yield f"http://127.0.0.1:{listener.getsockname()[1]}/x.json", asked
        listener.shutdown(socket.SHUT_RDWR)


@pytest.mark.parametrize("version", ["2.0", "3.0.3", "3.1.0"])
def test_nothing_outside_the_document_is_asked_for_wherever_it_is_named(
    version: str, watched: tuple[str, list[bytes]], tmp_path: Path
) -> None:
    planted = tmp_path / "planted.json"
    planted.write_text('{"type": "planted-content"}')
    for address in (watched[0], planted.as_uri(), str(planted), f"{planted.as_uri()}#/type"):
        schema = {
            "$id": f"{address}-own",
            "$schema": address,
            "$dynamicRef": address,
            "$recursiveRef": address,
            "properties": {
                "example": {"$ref": address},
                "examples": {"items": {"$ref": address}},
                "$ref": address,
                "default": {"allOf": [{"$ref": address}]},
                "x": {"$ref": address, "$schema": address, "externalDocs": {"url": address}},
            },
            "discriminator": {"propertyName": "x", "mapping": {"a": address}},
            "example": {"$ref": address},
        }
        data = document({"A": schema}, version=version)
        data["jsonSchemaDialect"] = data["$schema"] = address
        data["paths"]["/b"] = {"$ref": address}
        data["paths"]["/a"]["get"]["parameters"] = [{"$ref": address}, {"in": "query", "name": "q", "schema": schema}]
        data["x-more"] = {"$ref": address}
        if version == "2.0":
            data |= {"swagger": "2.0", "definitions": data.pop("components")["schemas"]}
            del data["openapi"]
        description = read(data)
        assert "planted-content" not in json.dumps(description.document) + messages(description)
        assert "leads out of the document" in messages(description)
        for entry in outline(description.document):
            assert "planted-content" not in repr(view_operation(description.document, entry.call))
    assert watched[1] == []


def test_a_reference_is_told_from_a_property_of_that_name_and_from_a_value() -> None:
    schemas = {
        "A": {"properties": {"$ref": {"type": "string"}, "example": {"$ref": "#/components/schemas/B"}}},
        "B": {"type": "integer", "example": {"$ref": "nowhere"}, "default": {"$ref": 7}},
    }
    description = read(document(schemas))
    assert description.problems == []
    assert description.document["components"]["schemas"] == schemas
    view = view_schema(description.document, {"$ref": "#/components/schemas/A"})
    assert [(name, inner.words) for name, _, inner in view.properties] == [("$ref", "string"), ("example", "integer")]


def test_references_by_anchor_id_and_percent_encoding_lead_somewhere() -> None:
    paths = {
        "/a/{id}": {
            "parameters": [{"name": "id", "in": "path", "required": True, "schema": {"type": "string"}}],
            "get": {"responses": ANSWERS},
        },
        "/b": {"get": {"parameters": [{"$ref": "#/paths/~1a~1%7Bid%7D/parameters/0"}], "responses": ANSWERS}},
        "/c": {"$ref": "#/components/pathItems/Shared"},
    }
    schemas = {
        "A": {"$id": "https://skerry.example/a", "$anchor": "first", "type": "string"},
        "B": {"properties": {"x": {"$ref": "#first"}, "y": {"$ref": "https://skerry.example/a"}}},
    }
    data = document(schemas, paths)
    data["components"]["pathItems"] = {"Shared": {"post": {"responses": ANSWERS}}}
    description = read(data)
    assert "leads" not in messages(description)
    assert [one.call for one in description.operations] == ["get /a/{id}", "get /b", "post /c"]
    view = view_schema(description.document, {"$ref": "#/components/schemas/B"})
    assert [inner.words for _, _, inner in view.properties] == ["string", "string"]
    operation = view_operation(description.document, "get /b")
    assert operation is not None
    assert [one.name for one in operation.parameters] == ["id"]


def test_what_is_not_taken_along_is_named_with_its_place() -> None:
    paths = {
        "/a/{id}": {"get": {"responses": ANSWERS}},
        "/a/{key}": {"get": {"responses": ANSWERS}, "post": {"responses": ANSWERS}},
        "/b": {"$ref": "paths.yaml#/b"},
        "/c/{x}/{x}": {"get": {"responses": ANSWERS}},
        "/d": {"get": {"parameters": [{"$ref": "p.yaml"}], "responses": {"200": {"$ref": "#/nowhere"}}}},
    }
    description = read(document(paths=paths))
    assert [one.call for one in description.operations] == ["get /a/{id}", "post /a/{key}", "get /d"]
    said = messages(description)
    assert "left out: it matches the same calls as 'get /a/{id}'" in said
    assert "'paths.yaml#/b' leads out of the document" in said
    assert "its operations are not in this document" in said
    assert "names the parameter 'x' twice" in said
    assert "'#/nowhere' leads to nothing" in said
    assert all(one.line >= 1 and one.path for one in description.problems)


def test_whole_numbers_of_any_size_pass_through_unchanged() -> None:
    data = document({"A": {"type": "integer", "maximum": 2**70, "enum": [2**64, -(2**80)]}})
    made = published(read(data).document, "T", "1", [], {"get /a": None})
    assert json.loads(json.dumps(made))["components"]["schemas"] == data["components"]["schemas"]


def size(view: SchemaView | None) -> int:
    if view is None:
        return 0
    inner = [one for _, _, one in view.properties] + [one for _, one in view.patterns]
    return 1 + sum(map(size, [*inner, *view.variants, *view.places, view.others, view.excluded]))


def count(value: Any) -> int:
    inner = value.values() if isinstance(value, dict) else value if isinstance(value, list) else ()
    return 1 + sum(map(count, inner))


NAMES = "ABCDE"
references = st.sampled_from([{"$ref": f"#/components/schemas/{name}"} for name in NAMES])
schemas = st.recursive(
    references | st.sampled_from([{"type": "string"}, {"type": "integer"}, {}]),
    lambda inner: st.one_of(
        st.dictionaries(st.sampled_from("abcdefgh"), inner, max_size=8).map(lambda p: {"properties": p}),
        st.lists(inner, min_size=1, max_size=4).flatmap(
            lambda many: st.sampled_from([{key: many} for key in ("oneOf", "allOf", "anyOf", "prefixItems")])
        ),
        inner.map(lambda one: {"type": "array", "items": one}),
        inner.map(lambda one: {"additionalProperties": one, "not": one}),
    ),
    max_leaves=12,
)


@given(st.fixed_dictionaries(dict.fromkeys(NAMES, schemas)))
def test_schemas_that_hold_each_other_are_laid_out_and_exemplified_within_bounds(all_of_them: Document) -> None:
    data = document(all_of_them)
    for name in NAMES:
        schema = {"$ref": f"#/components/schemas/{name}"}
        assert size(view_schema(data, schema, f"/components/schemas/{name}")) <= MOST_VIEWS * 2
        assert count(example_of(data, schema)) <= MOST_VALUES + 1
        json.dumps(example_of(data, schema, "request"))


def test_what_is_not_laid_out_at_once_opens_further_from_where_it_stands() -> None:
    data = document({"V": {"properties": {name: {"$ref": "#/components/schemas/V"} for name in "abcdefgh"}}})
    view = view_schema(data, {"$ref": "#/components/schemas/V"})
    first = view.properties[0][2]
    assert (first.circular, first.opens_at) == (True, "/components/schemas/V")
    further = view_at(data, first.opens_at)
    assert further is not None
    assert len(further.properties) == 8
    deep: Document = {"type": "string"}
    for level in range(8):
        deep = {"properties": {f"l{level}": deep}}
    data = document({"D": deep})
    inner = view_schema(data, data["components"]["schemas"]["D"], "/components/schemas/D")
    while not inner.opens_at:
        inner = inner.properties[0][2]
    assert view_at(data, inner.opens_at) is not None
    assert view_at(data, "/info/title") is None
    assert view_at(data, "/nowhere") is None


@pytest.mark.parametrize(
    "text",
    ["null", "[]", "7", "openapi: 3.1.0\npaths: []", "openapi: 3.1.0\npaths: {/a: [], /b: {get: 1, parameters: 7}}",
     "swagger: '2.0'\npaths: {/a: {get: {parameters: {a: 1}, responses: []}}}\nparameters: []\ndefinitions: 7",
     "openapi: 3.0.0\ninfo: []\nservers: {}\ncomponents: []\npaths: {/a: {get: {tags: {}, responses: 7}}}",
     "openapi: 3.1.0\npaths: {/a: {get: {parameters: [{$ref: '#/paths/~1a/get/parameters/0'}], responses: {}}}}"],
)  # fmt: skip
def test_what_is_oddly_built_is_a_problem_and_never_an_error_of_ours(text: str) -> None:
    description = describe(text)
    assert description.problems
    for word in ("KeyError", "TypeError", "Traceback", "could not be checked"):
        assert word not in messages(description)
    for entry in outline(description.document):
        view_operation(description.document, entry.call)


json_values = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(max_size=6),
    lambda inner: st.lists(inner, max_size=3)
    | st.dictionaries(
        st.sampled_from(["paths", "/a", "get", "parameters", "schema", "$ref", "properties", "responses", "200", "in",
                         "name", "content", "examples", "allOf", "items", "type", "discriminator", "x-y"]),
        inner, max_size=4),
    max_leaves=25,
)  # fmt: skip


@given(st.sampled_from(["3.0.3", "3.1.0", "2.0"]), st.dictionaries(st.sampled_from(["paths", "components", "info",
       "definitions", "parameters", "webhooks", "tags", "servers"]), json_values))  # fmt: skip
def test_no_document_whatever_it_holds_is_an_error_of_ours(version: str, rest: Document) -> None:
    description = read({"swagger" if version == "2.0" else "openapi": version, **rest})
    for entry in outline(description.document):
        assert view_operation(description.document, entry.call) is not None


plain = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(max_size=8) | st.sampled_from(["01239", "12e5", "yes", "2026-11-27"]),
    lambda inner: st.lists(inner, max_size=3)
    | st.dictionaries(st.text(max_size=6) | st.sampled_from(["properties", "items", "example", "x-a", "required"]), inner, max_size=4),
    max_leaves=20,
)  # fmt: skip


@given(st.dictionaries(st.sampled_from(NAMES), plain, max_size=3), st.sampled_from(["json", "yaml"]))
def test_a_download_holds_every_schema_as_its_author_wrote_it(written: Document, form: str) -> None:
    description = read(document(written))
    if (
        description.document
        and "\\u0000" not in json.dumps(written)
        and not re.search(r"\\ud[89a-f]", json.dumps(written))
    ):
        made = published(
            description.document, "T", "1", [("https://gateway.example/t", "production")], {"get /a": None}
        )
        text = json.dumps(made) if form == "json" else to_yaml(made, fast=True)
        assert describe(text).document["components"]["schemas"] == written
