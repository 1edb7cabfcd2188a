"""Whether a document is built as its version of OpenAPI says, by the JSON Schemas that the specification publishes.

The schemas ship with the program. The validator is closed: it has no way to fetch an address or to open a file,
whatever a document names.
"""

from collections.abc import Iterable, Iterator
from functools import cache
from importlib.resources import files
from itertools import islice
from typing import Any

import jsonschema_rs
import orjson

from tamarack.core.documents.bounds import Path

MOST_ERRORS = 2_000
_UNKNOWN = ("additionalProperties", "unevaluatedProperties")
_NO_FIELD = "is not a field here"
_DIALECT = "https://json-schema.org/draft/2020-12/schema"


@cache
def _validator(dialect: str) -> Any:
    schema = orjson.loads((files("tamarack.core.openapi") / "schemas" / f"{dialect}.json").read_bytes())
    options: dict[str, Any] = {"offline": True, "pattern_options": jsonschema_rs.RegexOptions()}
    if dialect != "3.1":
        return jsonschema_rs.validator_for(schema, **options)
    # The schema of 3.1 leaves Schema Objects to the dialect that a document uses (3.1, 4.8.24.5): JSON Schema 2020-12.
    whole = {
        "$schema": _DIALECT,
        "$id": "urn:tamarack:openapi-3.1",
        "$ref": schema["$id"],
        "$defs": {"schema": {"$dynamicAnchor": "meta", "$ref": _DIALECT}},
    }
    registry = jsonschema_rs.Registry([(schema["$id"], schema)])
    return jsonschema_rs.validator_for(whole, registry=registry, **options)


def misfits(document: dict[str, Any], dialect: str) -> Iterator[tuple[Path, str]]:
    """Every place that is not as the specification says, once, with words."""
    said: set[tuple[Path, str]] = set()
    for error in islice(_validator(dialect).iter_errors(document), MOST_ERRORS):
        inner = _nearest(error)
        path = _real(document, inner.instance_path)
        unknown = inner.kind.as_dict().get("unexpected") if inner.kind.name in _UNKNOWN else None
        named = [((*path, name), f"{name!r} {_NO_FIELD}") for name in unknown or ()]
        for one in named or [(path, _words(inner))]:
            if one not in said:
                said.add(one)
                yield one


def _nearest(error: Any) -> Any:
    """Of an error of alternatives the one that says most: within the alternative that was meant."""
    while True:
        context = getattr(error.kind, "context", None)
        if not context:
            return error
        branches = [list(branch) for branch in context if branch]
        meant = [one for one in branches if not any(_is_about_reference(inner) for inner in one)] or branches
        if not meant:
            return error
        deepest = max(meant, key=lambda branch: (max(len(one.instance_path) for one in branch), -len(branch)))
        error = max(deepest, key=lambda one: len(one.instance_path))


def _is_about_reference(error: Any) -> bool:
    kind = error.kind.as_dict()
    return bool(error.kind.name == "required" and kind.get("property") == "$ref")


def _real(document: Any, path: Iterable[str | int]) -> Path:
    """The path as the document has it: the validator tells a key `200` as a number."""
    found: list[str | int] = []
    for part in path:
        key = str(part) if isinstance(document, dict) and part not in document else part
        found.append(key)
        try:
            document = document[key]
        except (KeyError, IndexError, TypeError):
            document = None
    return tuple(found)


_TYPES = {"object": "a mapping of fields", "array": "a list", "string": "text", "integer": "a whole number",
          "number": "a number", "boolean": "true or false", "null": "null"}  # fmt: skip


def _listed(names: Iterable[Any], last: str = "or") -> str:
    known = [str(one) for one in names]
    return known[0] if len(known) == 1 else f"{', '.join(known[:-1])} {last} {known[-1]}"


def _shown(value: Any) -> str:
    if isinstance(value, dict | list):
        return "a mapping of fields" if isinstance(value, dict) else "a list"
    text = orjson.dumps(value, default=str).decode() if not isinstance(value, int) else str(value)
    return text if len(text) <= 60 else text[:59] + "…"


def _words(error: Any) -> str:
    kind, value = error.kind.as_dict(), error.instance
    name = error.kind.name
    if name == "required":
        return f"lacks the field {kind['property']!r}"
    if name == "falseSchema":
        return _NO_FIELD
    if name == "type":
        types = kind["types"] if isinstance(kind.get("types"), list) else [kind.get("type", "another type")]
        return f"is {_shown(value)}; it has to be {_listed(_TYPES.get(str(one), str(one)) for one in types)}"
    if name == "enum":
        options = kind["options"] if isinstance(kind["options"], list) else orjson.loads(kind["options"])
        return f"{_shown(value)} is not one of {_listed(map(_shown, options[:12]))}"
    if name == "const":
        return f"is {_shown(value)}; it has to be {_shown(kind.get('expected_value'))}"
    if name == "pattern":
        return f"{_shown(value)} does not match {kind['pattern']}"
    if name == "minItems" or name == "minProperties":
        return "is empty; at least one has to stand here"
    if name == "uniqueItems":
        return "holds an item twice"
    if name in ("oneOf", "anyOf"):
        return f"{_shown(value)} is not as OpenAPI describes it here"
    if name == "format":
        return f"{_shown(value)} is not of the format {kind.get('format', '')}"
    if name in ("minimum", "exclusiveMinimum"):
        return (
            f"is {_shown(value)}; it has to be {'more than' if name != 'minimum' else 'at least'} {kind.get('limit')}"
        )
    text: str = error.message
    return text if len(text) < 200 else text[:199] + "…"
