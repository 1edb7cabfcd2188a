"""Examples of calls: as the media type asks, with what requests hold, the same each time."""

import json
from typing import Any
from xml.etree import ElementTree

import pytest

from tamarack.core.openapi.example_bodies import body_text
from tamarack.core.openapi.example_values import example_of
from tamarack.core.openapi.parameter_styles import in_path, pairs_of
from tamarack.core.openapi.reference import OperationView, view_operation
from tamarack.core.trying.filled_in import call_path, header_lines

DOCUMENT: dict[str, Any] = {
    "components": {
        "schemas": {
            "Boat": {
                "type": "object",
                "discriminator": {"propertyName": "kind", "mapping": {"fer": "#/components/schemas/Ferry"}},
                "properties": {"kind": {"type": "string"}, "id": {"type": "string", "readOnly": True},
                               "pin": {"type": "string", "writeOnly": True}},
            },
            "Ferry": {"allOf": [{"$ref": "#/components/schemas/Boat"},
                                {"properties": {"decks": {"type": "integer", "minimum": 3}}}]},
            "Tug": {"allOf": [{"$ref": "#/components/schemas/Boat"}]},
            "Any": {"oneOf": [{"$ref": "#/components/schemas/Ferry"}, {"$ref": "#/components/schemas/Tug"}],
                    "discriminator": {"propertyName": "kind", "mapping": {"fer": "#/components/schemas/Ferry"}}},
            "Crew": {
                "type": "object",
                "xml": {"name": "crew", "namespace": "urn:skerry", "prefix": "s"},
                "properties": {
                    "rank": {"type": "string", "xml": {"attribute": True}},
                    "names": {"type": "array", "items": {"type": "string", "xml": {"name": "name"}},
                              "xml": {"wrapped": True}},
                    "watch": {"type": "array", "items": {"type": "integer"}},
                },
            },
        }
    }
}  # fmt: skip


def made(name: str, side: Any = "request") -> Any:
    return example_of(DOCUMENT, {"$ref": f"#/components/schemas/{name}"}, side)


def test_a_variant_says_which_it_is_and_each_side_holds_its_own() -> None:
    assert made("Ferry") == {"kind": "fer", "pin": "text", "decks": 3}
    assert made("Ferry", "answer") == {"kind": "fer", "id": "text", "decks": 3}
    assert made("Tug")["kind"] == "Tug"
    assert made("Any")["kind"] == "fer"


@pytest.mark.parametrize(
    ("schema", "value"),
    [
        ({"type": "integer", "maximum": -5}, -5),
        ({"type": "number", "exclusiveMinimum": 7}, 8),
        ({"type": "integer", "minimum": 3, "exclusiveMinimum": True}, 4),
        ({"type": "string", "minLength": 6}, "textte"),
        ({"type": "string", "maxLength": 2}, "te"),
        ({"type": ["null", "string"]}, "text"),
        ({"type": "array", "prefixItems": [{"type": "string"}, {"type": "integer"}]}, ["text", 1]),
        ({"examples": ["first", "second"]}, "first"),
    ],
)
def test_a_value_keeps_to_what_its_schema_says(schema: Any, value: Any) -> None:
    assert example_of({}, schema) == value


def test_a_body_is_written_as_its_type_asks() -> None:
    value = {"a": "x y&z", "b": [1, 2], "c": {"d": True}}
    assert json.loads(body_text({}, "application/merge-patch+json", {}, value)) == value
    form = body_text({}, "application/x-www-form-urlencoded", {}, value, {"b": {"explode": False}})
    assert form == "a=x%20y%26z&b=1,2&d=true"
    schema = {"properties": {"a": {"type": "string", "format": "binary"}}}
    parts = body_text({}, "multipart/form-data", schema, {"a": "content", 'n"\r\n': "x", "c": {"d": 1}})
    assert 'name="a"; filename="a.bin"\r\nContent-Type: application/octet-stream\r\n\r\ncontent\r\n' in parts
    assert 'name="n___"\r\n\r\nx\r\n' in parts
    assert 'Content-Type: application/json\r\n\r\n{"d": 1}' in parts
    assert parts.endswith("--\r\n")
    assert body_text({}, "text/plain", {}, "as it is") == "as it is"
    assert body_text({}, "application/json", {}, "text") == '"text"'


def test_xml_is_laid_out_by_the_schema_and_always_well_formed() -> None:
    value = {"rank": 'ma"te', "names": ["Ida <3", "Bo"], "watch": [1, 2], "1 odd": None}
    text = body_text(DOCUMENT, "application/xml", {"$ref": "#/components/schemas/Crew"}, value)
    root = ElementTree.fromstring(text)
    assert (root.tag, root.attrib) == ("{urn:skerry}crew", {"rank": 'ma"te'})
    assert [one.text for one in root.findall("names/name")] == ["Ida <3", "Bo"]
    assert [one.text for one in root.findall("watch")] == ["1", "2"]


@pytest.mark.parametrize(
    ("value", "style", "explode", "pairs"),
    [
        ([1, 2], "form", True, [("n", "1"), ("n", "2")]),
        ([1, 2], "form", False, [("n", "1,2")]),
        (["a", "b"], "pipeDelimited", False, [("n", "a|b")]),
        (["a", "b"], "spaceDelimited", False, [("n", "a b")]),
        ({"x": 1, "y": 2}, "deepObject", True, [("n[x]", "1"), ("n[y]", "2")]),
        ({"x": 1}, "form", True, [("x", "1")]),
        ({"x": 1}, "form", False, [("n", "x,1")]),
        (True, "form", True, [("n", "true")]),
    ],
)
def test_a_query_parameter_is_written_in_its_style(value: Any, style: str, explode: bool, pairs: Any) -> None:
    assert pairs_of("n", value, style, explode) == pairs


def test_a_path_parameter_is_written_in_its_style() -> None:
    assert in_path("n", [1, 2], "simple", False) == "1,2"
    assert in_path("n", [1, 2], "label", True) == ".1.2"
    assert in_path("n", [1, 2], "matrix", True) == ";n=1;n=2"
    assert in_path("n", {"x": 1}, "matrix", False) == ";n=x,1"


def operation() -> OperationView:
    text = {"type": "string"}
    listed = {"type": "array", "items": {"enum": ["pallet", "crate"]}}
    parameters = [
        {"name": "kinds", "in": "query", "required": True, "schema": listed, "example": ["pallet", "crate"]},
        {
            "name": "where",
            "in": "query",
            "required": True,
            "style": "deepObject",
            "schema": {"properties": {"x": text}},
        },
        {"name": "X-Depot", "in": "header", "required": True, "schema": text, "examples": {"quay": {"value": "q1"}}},
        {"name": "session", "in": "cookie", "required": True, "schema": text, "deprecated": True},
        {"name": "rest", "in": "query", "schema": text},
    ]
    paths = {"/a": {"get": {"parameters": parameters, "responses": {}}}}
    view = view_operation({"paths": paths}, "get /a")
    assert view is not None
    return view


def test_an_example_call_holds_all_that_is_required_in_its_place() -> None:
    view = operation()
    assert view.example_path() == "/a?kinds=pallet&kinds=crate&where[x]=text"
    assert view.example_headers() == {"x-depot": "q1", "cookie": "session=text"}
    assert view.parameters[2].examples == {"quay": "q1"}
    assert view.parameters[3].deprecated


def test_what_was_typed_into_a_form_is_written_in_the_same_style() -> None:
    values = {"query.kinds": "pallet, crate", "query.where": "x", "header.X-Depot": "q2", "cookie.session": "a b"}
    assert call_path("/base", operation(), values) == "/base/a?kinds=pallet&kinds=crate&where=x"
    assert header_lines(operation(), values, "") == ["X-Depot: q2", "cookie: session=a%20b"]
