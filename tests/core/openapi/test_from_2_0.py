"""What a 2.0 document says, said in 3.0: forms, files, lists, variants, extensions and references anywhere."""

import json
from typing import Any

from tamarack.core.openapi.convert import to_openapi_3
from tamarack.core.openapi.read import describe
from tamarack.core.openapi.reference import view_operation

DOCUMENT: dict[str, Any] = {
    "swagger": "2.0",
    "info": {"title": "Fleet", "version": "1"},
    "x-team": "harbour",
    "paths": {
        "/boats/{id}": {
            "x-shelf": 7,
            "parameters": [
                {"name": "id", "in": "path", "required": True, "type": "string"},
                {"name": "note", "in": "formData", "type": "string", "description": "For the *crew*", "x-kept": 1},
            ],
            "post": {
                "x-owner": "quay",
                "parameters": [
                    {"name": "paper", "in": "formData", "type": "file", "required": True},
                    {"name": "tags", "in": "formData", "type": "array", "items": {"type": "string"},
                     "collectionFormat": "pipes"},
                    {"name": "by", "in": "query", "type": "array", "items": {"type": "string"},
                     "collectionFormat": "ssv"},
                    {"name": "of", "in": "query", "type": "array", "items": {"type": "string"}},
                ],
                "responses": {"200": {"description": "ok", "x-seen": True, "schema": {"$ref": "#/definitions/Boat"},
                                      "headers": {"X-Left": {"type": "integer", "description": "Left"}}}},
            },
        },
        "/copies": {
            "get": {
                "parameters": [{"$ref": "#/paths/~1boats~1{id}/post/parameters/2"}],
                "responses": {"200": {"$ref": "#/paths/~1boats~1{id}/post/responses/200"}},
            }
        },
    },
    "definitions": {
        "Boat": {"type": "object", "discriminator": "kind", "required": ["kind"],
                 "properties": {"kind": {"type": "string"}, "discriminator": {"type": "string"},
                                "built": {"type": "string", "x-nullable": True}}},
        "Ferry": {"allOf": [{"$ref": "#/definitions/Boat"}, {"properties": {"decks": {"type": "integer"}}}]},
    },
    "securityDefinitions": {"gate": {"type": "basic", "description": "At the gate"}},
}  # fmt: skip


def test_forms_of_path_and_operation_come_together_with_words_files_and_styles() -> None:
    body = to_openapi_3(DOCUMENT)["paths"]["/boats/{id}"]["post"]["requestBody"]
    (media, content), *others = body["content"].items()
    assert (media, others) == ("multipart/form-data", [])
    assert content["schema"]["properties"] == {
        "note": {"type": "string", "description": "For the *crew*", "x-kept": 1},
        "paper": {"type": "string", "format": "binary"},
        "tags": {"type": "array", "items": {"type": "string"}},
    }
    assert content["schema"]["required"] == ["paper"]
    assert content["encoding"] == {"tags": {"style": "pipeDelimited", "explode": False}}


def test_lists_in_a_query_keep_how_they_are_written() -> None:
    by, of = to_openapi_3(DOCUMENT)["paths"]["/boats/{id}"]["post"]["parameters"]
    assert (by["style"], by["explode"]) == ("spaceDelimited", False)
    assert (of["style"], of["explode"]) == ("form", False)


def test_variants_nulls_and_extensions_stay() -> None:
    made = to_openapi_3(DOCUMENT)
    boat = made["components"]["schemas"]["Boat"]
    assert boat["discriminator"] == {"propertyName": "kind"}
    assert boat["properties"]["discriminator"] == {"type": "string"}
    assert boat["properties"]["built"]["nullable"] is True
    item = made["paths"]["/boats/{id}"]
    assert (made["x-team"], item["x-shelf"], item["post"]["x-owner"]) == ("harbour", 7, "quay")
    assert item["post"]["responses"]["200"]["x-seen"] is True
    assert made["components"]["securitySchemes"]["gate"]["description"] == "At the gate"
    view = view_operation(made, "post /boats/{id}")
    assert view is not None
    assert view.answers[0].headers[0].schema.words == "integer"


def test_references_into_paths_say_what_they_lead_to() -> None:
    copies = to_openapi_3(DOCUMENT)["paths"]["/copies"]["get"]
    assert copies["parameters"][0]["name"] == "by"
    assert copies["responses"]["200"]["content"]["application/json"]["schema"] == {"$ref": "#/components/schemas/Boat"}


def test_the_original_is_left_as_it_was_and_reads_without_a_problem() -> None:
    before = repr(DOCUMENT)
    to_openapi_3(DOCUMENT)
    assert repr(DOCUMENT) == before
    assert [p.message for p in describe(json.dumps(DOCUMENT)).problems] == []
