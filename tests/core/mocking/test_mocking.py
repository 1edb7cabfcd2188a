"""Answers made from descriptions, which of them is given, and whether a typed one fits."""

import json
from typing import Any

import jsonschema_rs
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tamarack.core.mocking.choosing import Answers, preferred, quality
from tamarack.core.mocking.documented import DocumentedAnswer, documented_answers, with_typed
from tamarack.core.mocking.fitting import misfits, modern
from tamarack.core.openapi.example_values import example_of
from tamarack.core.openapi.pattern_text import text_for

BOOKING = {
    "type": "object",
    "required": ["id", "metres", "state"],
    "xml": {"name": "booking", "namespace": "https://skerry.example/f", "prefix": "f"},
    "properties": {
        "id": {"type": "string", "pattern": "^KC-[0-9]{4}$", "xml": {"attribute": True}},
        "metres": {"type": "number", "minimum": 2, "exclusiveMinimum": True, "nullable": True},
        "state": {"type": "string", "enum": ["confirmed", "waiting"]},
        "secret": {"type": "string", "writeOnly": True},
        "next": {"$ref": "#/components/schemas/Booking"},
        "goods": {"oneOf": [{"type": "string", "const": "crates"}, {"type": "integer"}]},
        "tags": {"type": "array", "xml": {"name": "tag", "wrapped": True}, "items": {"type": "string", "maxLength": 3}},
    },
}
DOCUMENT: dict[str, Any] = {
    "openapi": "3.0.3",
    "components": {"schemas": {"Booking": BOOKING}},
    "paths": {
        "/bookings/{id}": {
            "get": {
                "responses": {
                    "404": {"description": "none", "content": {"application/json": {"example": {"title": "None"}}}},
                    "200": {
                        "description": "it",
                        "headers": {"X-Left": {"schema": {"type": "integer", "minimum": 7}},
                                    "Content-Length": {"schema": {"type": "integer"}}},
                        "content": {
                            "application/json": {"schema": {"$ref": "#/components/schemas/Booking"}},
                            "application/xml": {"schema": {"$ref": "#/components/schemas/Booking"}},
                        },
                    },
                    "5XX": {"description": "failed"},
                }
            },
            "post": {
                "responses": {
                    "201": {
                        "description": "made",
                        "content": {"application/json": {"examples": {"full": {"value": {"id": 1}},
                                                                      "empty": {"value": {}}}}},
                    }
                }
            },
        }
    },
}  # fmt: skip
GET, POST = "get /bookings/{id}", "post /bookings/{id}"


def test_every_documented_answer_is_made_once_in_each_media_type_with_its_fields() -> None:
    found = documented_answers(DOCUMENT, GET)
    assert [(one.status, one.media, one.origin) for one in found] == [
        (404, "application/json", "example"), (200, "application/json", "schema"), (200, "application/xml", "schema"),
        (500, "", "schema"),
    ]  # fmt: skip
    assert found[1].fields == (("x-left", "7"),)
    body = json.loads(found[1].body)
    assert (body["id"], body["metres"] > 2, body["state"], body["goods"]) == ("KC-0000", True, "confirmed", "crates")
    assert "secret" not in body
    assert "next" not in body["next"] if "next" in body else True
    xml = found[2].body
    assert '<f:booking xmlns:f="https://skerry.example/f" id="KC-0000">' in xml
    assert documented_answers(DOCUMENT, GET) == found
    assert documented_answers(DOCUMENT, "get /elsewhere") == []


def test_what_is_made_from_a_schema_fits_the_schema() -> None:
    for one in documented_answers(DOCUMENT, GET):
        assert misfits(DOCUMENT, GET, one.status, one.media, one.body) == []


def test_a_typed_answer_stands_in_for_its_documented_one_and_says_where_it_does_not_fit() -> None:
    typed = DocumentedAnswer(status=200, media="application/json", body='{"id": "X", "metres": 2}')
    answers = with_typed(documented_answers(DOCUMENT, GET), [typed])
    (mine,) = [one for one in answers if one.origin == "typed"]
    assert (mine.body, mine.fields) == (typed.body, (("x-left", "7"),))
    problems = misfits(DOCUMENT, GET, 200, "application/json", typed.body)
    assert any(one.startswith("/id: ") for one in problems)
    assert any("state" in one for one in problems)
    assert any(one.startswith("/metres: ") for one in problems)
    assert (
        misfits(DOCUMENT, GET, 200, "application/json", '{"id": "KC-0001", "metres": null, "state": "waiting"}') == []
    )
    assert "not JSON" in misfits(DOCUMENT, GET, 200, "application/json", "{")[0]
    assert misfits(DOCUMENT, GET, 418, "application/json", "{}") == []


@pytest.mark.parametrize(
    ("accept", "status", "name", "found"),
    [
        ("", 0, "", (200, "application/json")),
        ("application/xml", 0, "", (200, "application/xml")),
        ("text/html, application/xml;q=0.9, */*;q=0.1", 0, "", (200, "application/xml")),
        ("application/*;q=0.5, application/json;q=0", 0, "", (200, "application/xml")),
        ("image/png", 0, "", (200, "application/json")),
        ("", 404, "", (404, "application/json")),
        ("", 418, "", None),
        ("", 0, "nothing", None),
    ],
)
def test_the_answer_is_chosen_by_status_name_and_what_the_caller_takes(
    accept: str, status: int, name: str, found: tuple[int, str] | None
) -> None:
    chosen = Answers(documented_answers(DOCUMENT, GET)).choose(accept, status, name)
    assert (None if chosen is None else (chosen.status, chosen.media)) == found


def test_a_named_example_is_found_whatever_its_status() -> None:
    chosen = Answers(documented_answers(DOCUMENT, POST)).choose("", name="empty")
    assert chosen is not None
    assert (chosen.status, chosen.body) == (201, b"{}")


@pytest.mark.parametrize(
    ("value", "found"),
    [(b"code=404", (404, "")), (b'respond-async, Code="404"; example=full', (404, "full")), (b"wait=10", (0, "")),
     (b'example="a b"', (0, "a b")), (b"code=abc", (0, ""))],
)  # fmt: skip
def test_preferences_are_read_by_their_grammar(value: bytes, found: tuple[int, str]) -> None:
    assert preferred([value]) == found


@given(st.text(max_size=40), st.sampled_from(["application/json", "text/plain"]))
def test_any_accept_field_gives_a_quality_from_0_to_1(accept: str, media: str) -> None:
    assert 0 <= quality(accept, media) <= 1.999


@given(
    st.from_regex(r"\A(\^?)([A-Za-z0-9_-]|\[a-z\]|\[^x\]|\\d|\\w|\(ab\|c\))([*+?]|\{2,3\}|\{4\})?(-[0-9]{1,2})?\$?\Z")
)
def test_a_text_made_for_a_pattern_matches_it(pattern: str) -> None:
    made = text_for(pattern)
    if made is not None:
        assert jsonschema_rs.validator_for({"pattern": pattern}, offline=True).is_valid(made)


def test_patterns_that_cannot_be_made_for_are_left_alone() -> None:
    assert [text_for(one) for one in ("[", "(?=x)y", "a{999}", "(a)(?!b)")] == [None] * 4
    assert text_for(r"^[A-Z]{3}-\d{2}$") == "AAA-00"


def test_schemas_of_older_documents_are_read_as_the_newer_ones() -> None:
    old = {"type": "integer", "minimum": 1, "exclusiveMinimum": True, "nullable": True, "enum": [2, 3]}
    assert modern(old) == {"type": ["integer", "null"], "exclusiveMinimum": 1, "enum": [2, 3, None]}
    assert modern({"$ref": "#/a", "nullable": True}) == {"$ref": "#/a"}


TRICKY: list[dict[str, Any]] = [
 {"type":"array","minItems":3,"items":{"type":"integer"}},
  {"type":"array","minItems":2,"uniqueItems":True,"items":{"type":"integer","minimum":5}},
  {"type":"array","minItems":2,"uniqueItems":True,"items":{"type":"string"}},
  {"type":"array","minItems":2,"uniqueItems":True,"items":{"type":"string","enum":["a","b"]}},
  {"type":"integer","multipleOf":7,"minimum":10},
  {"type":"number","multipleOf":0.5,"exclusiveMinimum":1.5,"maximum":2},
  {"type":"number","minimum":0.1,"maximum":0.2},
  {"type":"integer","exclusiveMinimum":3,"exclusiveMaximum":5},
  {"type":"integer","maximum":-5},
  {"type":"string","minLength":300},
  {"type":"string","maxLength":0},
  {"type":"string","format":"date-time","minLength":5},
  {"type":"object","required":["a"],"additionalProperties":{"type":"string"},"minProperties":2},
  {"type":"object","required":["zz"],"properties":{"a":{"type":"integer"}}},
  {"allOf":[{"type":"object","required":["a"],"properties":{"a":{"type":"integer","minimum":3}}},{"properties":{"b":{"const":"x"}},"required":["b"]}]},
  {"allOf":[{"type":"integer","minimum":3},{"maximum":3}]},
  {"oneOf":[{"type":"string","pattern":"^a$"},{"type":"integer"}]},
  {"anyOf":[{"type":"object","properties":{"k":{"const":1}},"required":["k"]},{"type":"null"}]},
  {"type":["null","integer"],"minimum":4},
  {"type":"object","properties":{"n":{"$ref":"#/components/schemas/N"}},"required":["n"]},
  {"enum":[None,2]},
  {"type":"string","format":"uuid"},{"type":"string","format":"email"},{"type":"string","format":"ipv6"},
  {"type":"array","items":{"type":"object","properties":{"x":{"type":"boolean"}},"required":["x"]},"minItems":1},
  {"type":"array","prefixItems":[{"const":1},{"const":2}],"items":False},
  {"type":"object","minProperties":1},
  {"type":"array","contains":{"const":5},"items":{"type":"integer"}},
  {"properties":{"a":{"not":{"type":"string"}}},"required":["a"]},
  {"type":"object","patternProperties":{"^x-":{"type":"integer"}},"required":["x-a"]},
  {"type":"string","const":"z"},
  {"type":"number","minimum":1e6},
  {"type":"array","maxItems":0,"items":{"type":"integer"}},
]  # fmt: skip
COMPONENTS = {
    "schemas": {
        "N": {
            "type": "object",
            "properties": {"next": {"$ref": "#/components/schemas/N"}, "v": {"type": "integer"}},
            "required": ["v"],
        }
    }
}


@pytest.mark.parametrize("schema", TRICKY, ids=str)
def test_a_value_made_from_a_schema_is_valid_against_it(schema: dict[str, Any]) -> None:
    made = example_of({"openapi": "3.1.0", "components": COMPONENTS}, schema)
    validator = jsonschema_rs.validator_for(schema | {"components": COMPONENTS}, offline=True, validate_formats=True)
    validator.validate(made)


@given(
    st.fixed_dictionaries(
        {"type": st.sampled_from(["integer", "number"])},
        optional={
            "minimum": st.integers(-50, 50), "maximum": st.integers(60, 99), "exclusiveMinimum": st.integers(-50, 50),
            "exclusiveMaximum": st.integers(60, 99), "multipleOf": st.sampled_from([1, 2, 3, 0.5, 0.25]),
        },
    )
)  # fmt: skip
def test_a_number_is_within_its_bounds_and_on_its_step(schema: dict[str, Any]) -> None:
    jsonschema_rs.validator_for(schema, offline=True).validate(example_of({}, schema))
