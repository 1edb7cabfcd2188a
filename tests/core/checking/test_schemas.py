"""Schemas of a description are checked as OpenAPI means them, within bounds, and said in words without the value."""

import json
from typing import Any

import pytest

from tamarack.core.checking.schemas import DEEPEST_BRANCHING, Schemas, SchemaWriter, settled


def ready(schema: Any, direction: Any = "request", **document: Any) -> tuple[Schemas, str]:
    writer = SchemaWriter({"openapi": "3.1.0", **document}, direction)
    key = writer.add(schema)
    whole, _ = settled(writer.whole())
    return Schemas(whole), key


def problems(schema: Any, value: Any, **document: Any) -> list[str]:
    made, key = ready(schema, **document)
    found = made.problems(key, value)
    assert made.fits(key, value) is not bool(found)
    return [f"{one.pointer} {one.words}".strip() for one in found]


@pytest.mark.parametrize(
    ("schema", "value", "said"),
    [
        ({"type": "integer"}, "secret", "must be a whole number"),
        ({"type": ["string", "null"]}, 3, "must be null or text"),
        ({"type": "string", "format": "date"}, "soon", "must be a date like 2026-12-01"),
        ({"enum": ["HBR", "CRN"]}, "XXX", "must be one of HBR, CRN"),
        ({"minimum": 2}, 1, "must be at least 2"),
        ({"maxLength": 3}, "secret", "must have at most 3 characters"),
        ({"pattern": "^[A-Z]+$"}, "secret", "must match ^[A-Z]+$"),
        ({"required": ["a/b"]}, {}, "/a~1b is required, and missing"),
        ({"additionalProperties": False}, {"x~y": 1}, "/x~0y is not described"),
        ({"items": {"type": "object", "required": ["id"]}}, [{"id": 1}, {}], "/1/id is required, and missing"),
        ({"oneOf": [{"type": "string"}, {"minimum": 3}]}, 1,
         "fits none of the alternatives (must be text; must be at least 3)"),
        ({"oneOf": [{"type": "integer"}, {"minimum": 3}]}, 5,
         "fits more than one of the alternatives, of which only one may hold"),
        ({"format": "int32"}, 2**31, "must be at most 2147483647"),
    ],
)  # fmt: skip
def test_what_does_not_fit_is_told_with_its_place_and_without_the_value(schema: Any, value: Any, said: str) -> None:
    found = problems(schema, value)
    assert found == [said]
    assert "secret" not in found[0]


def test_every_problem_is_listed() -> None:
    schema = {"properties": {"id": {"type": "integer"}, "day": {"format": "date"}}, "required": ["port"]}
    assert sorted(problems(schema, {"id": "x", "day": "y"})) == [
        "/day must be a date like 2026-12-01",
        "/id must be a whole number",
        "/port is required, and missing",
    ]


def test_a_schema_refers_to_itself_and_to_others_wherever_they_stand() -> None:
    components = {"schemas": {"Stop": {"type": "object", "properties": {"next": {"$ref": "#/components/schemas/Stop"},
                                                                        "port": {"$ref": "#/x-odd/0"}}}}}  # fmt: skip
    document = {"components": components, "x-odd": [{"type": "string"}]}
    reference = {"$ref": "#/components/schemas/Stop"}
    assert problems(reference, {"next": {"next": {"port": 1}}}, **document) == ["/next/next/port must be text"]


def test_what_is_only_for_one_direction_is_required_there_alone() -> None:
    schema = {"type": "object", "required": ["id", "secret"],
              "properties": {"id": {"readOnly": True}, "secret": {"writeOnly": True}}}  # fmt: skip
    for direction, value in (("request", {"secret": 1}), ("answer", {"id": 1})):
        made, key = ready(schema, direction)
        assert made.fits(key, value) and not made.fits(key, {})


def test_keywords_of_3_0_mean_what_they_mean_there() -> None:
    schema = {"type": "integer", "nullable": True, "minimum": 3, "exclusiveMinimum": True}
    assert problems(schema, None, openapi="3.0.3") == []
    assert problems(schema, 3, openapi="3.0.3") == ["must be more than 3"]
    beside = {"$ref": "#/components/schemas/A", "maxLength": 1}
    components = {"schemas": {"A": {"type": "string"}}}
    assert problems(beside, "long", openapi="3.0.3", components=components) == []
    assert problems(beside, "long", openapi="3.1.0", components=components) == ["must have at most 1 characters"]


def test_a_property_may_be_called_like_a_keyword() -> None:
    schema = {"properties": {"$ref": {"type": "integer"}, "required": {"type": "integer"}}}
    assert len(problems(schema, {"$ref": "x", "required": "y"})) == 2


def test_one_schema_that_cannot_be_used_stops_no_other_and_is_said() -> None:
    writer = SchemaWriter({"openapi": "3.1.0", "components": {"schemas": {"Bad": {"type": "wibble"}}}}, "request")
    good = writer.add({"type": "integer"})
    writer.add({"type": "wibble"})
    writer.add({"$ref": "#/components/schemas/Bad"})
    behind = writer.add({"pattern": "(?=look)", "minLength": 2})
    whole, left = settled(writer.whole())
    assert left and "look" in writer.unusable[0]
    made = Schemas(whole)
    assert not made.fits(good, "x") and not made.fits(behind, "x") and made.fits("s1", 3)


def test_a_schema_that_branches_into_itself_is_checked_only_to_a_depth() -> None:
    """Each level could double the work: without the bound such a value held a node for minutes, and took its memory."""
    back = {"properties": {"a": {"$ref": "#/components/schemas/A"}}}
    components = {"schemas": {"A": {"anyOf": [back | {"required": ["z"]}, back | {"required": ["y"]}]}}}
    value: Any = {}
    for _ in range(60):
        value = {"a": value}
    found = problems({"$ref": "#/components/schemas/A"}, value, components=components)
    assert found == [f"is nested more than {DEEPEST_BRANCHING} levels deep, too deep to be checked"]
    chain = {"schemas": {"A": {"properties": {"a": {"$ref": "#/components/schemas/A"}}}}}
    assert problems({"$ref": "#/components/schemas/A"}, value, components=chain) == []


def test_of_a_large_value_the_first_problem_is_told() -> None:
    value = json.loads(json.dumps({"list": ["x"] * 50_000}))
    assert problems({"properties": {"list": {"items": {"type": "integer"}}}}, value) == [
        "/list/0 must be a whole number"
    ]
