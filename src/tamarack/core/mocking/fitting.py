"""Whether an answer's body fits what the description says of it (JSON Schema 2020-12)."""

from __future__ import annotations

from typing import Any

import jsonschema_rs
import orjson

from tamarack.core.mocking.documented import status_of
from tamarack.core.openapi.example_bodies import media_of
from tamarack.core.openapi.modern import modern_keywords
from tamarack.core.openapi.plain import dict_of
from tamarack.core.openapi.references import path_item, resolve

MOST_PROBLEMS = 12
DEEPEST = 60
Document = dict[str, Any]


def schema_for(document: Document, call: str, status: int, media: str) -> Any:
    """The schema that a description gives an answer; None where it gives none."""
    method, _, path = call.partition(" ")
    item = dict_of(path_item(document, dict_of(document.get("paths")).get(path)).get(method))
    for written, answer in dict_of(item.get("responses")).items():
        if status_of(str(written)) != status:
            continue
        content = dict_of(dict_of(resolve(document, answer)).get("content"))
        for kind, holder in content.items():
            if media_of(kind) == media_of(media):
                return dict_of(holder).get("schema")
    return None


def misfits(document: Document, call: str, status: int, media: str, body: str) -> list[str]:
    """What of a body does not fit, each with its place as a JSON Pointer; empty where it fits, or nothing is said."""
    if not media_of(media).endswith(("/json", "+json")):
        return []
    try:
        value = orjson.loads(body)
    except ValueError as error:
        return [f"it is not JSON: {str(error).partition(': ')[2] or error}"]
    schema = schema_for(document, call, status, media)
    if schema is None:
        return []
    old = str(document.get("openapi", "3.0")).startswith("3.0")
    whole = {"components": document.get("components", {}), "answer": schema}
    if old:
        whole = modern(whole)
    try:
        validator = jsonschema_rs.validator_for(
            {"$schema": "https://json-schema.org/draft/2020-12/schema", **whole, "$ref": "#/answer"},
            offline=True,
            pattern_options=jsonschema_rs.RegexOptions(),
        )
    except (ValueError, jsonschema_rs.ValidationError, jsonschema_rs.ReferencingError) as error:
        return [f"the description's schema cannot be used: {str(error).partition(chr(10))[0][:200]}"]
    found = []
    for wrong in validator.iter_errors(value):
        place = "".join(f"/{part}" for part in wrong.instance_path)
        found.append(f"{place or 'the whole'}: {wrong.message[:200]}")
        if len(found) >= MOST_PROBLEMS:
            break
    return found


def modern(schema: Any, depth: int = 0) -> Any:
    """A schema of OpenAPI 3.0 as JSON Schema 2020-12: nullable, yes-or-no exclusive bounds, references alone."""
    if depth > DEEPEST:
        return True
    if isinstance(schema, list):
        return [modern(one, depth + 1) for one in schema]
    if not isinstance(schema, dict):
        return schema
    if isinstance(schema.get("$ref"), str):
        return {"$ref": schema["$ref"]}
    made = {key: value if key in ("example", "default", "enum", "const") else modern(value, depth + 1)
            for key, value in schema.items()}  # fmt: skip
    return modern_keywords(made)
