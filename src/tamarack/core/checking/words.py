"""What does not fit, in words: by the keyword of JSON Schema 2020-12 that says so, and never with the value itself."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

LONGEST = 200
MOST_ALTERNATIVES = 4
_FORMATS = {
    "date": "a date like 2026-12-01",
    "date-time": "a time like 2026-12-01T09:30:00Z (RFC 3339)",
    "time": "a time of day like 09:30:00Z",
    "duration": "a duration like PT30M (ISO 8601)",
    "email": "a mail address",
    "uuid": "a UUID",
    "uri": "an address like https://skerry.example/a",
    "ipv4": "an IPv4 address",
    "ipv6": "an IPv6 address",
    "hostname": "a host name",
}
_TYPES = {"string": "text", "integer": "a whole number", "number": "a number", "boolean": "true or false",
          "array": "a list", "object": "an object", "null": "null"}  # fmt: skip


def in_words(keyword: str, said: Mapping[str, Any]) -> list[tuple[str, str]]:
    """One problem, or several: what is to be put behind the pointer, and the words.

    `said` is what the schema says with the keyword, as the validator tells it.
    """
    bound = said.get("limit")
    match keyword:
        case "required":
            name = str(said.get("property", "")).strip('"')
            return [(f"/{_part(name)}", "is required, and missing")]
        case "additionalProperties" | "unevaluatedProperties":
            return [(f"/{_part(str(name))}", "is not described") for name in list(said.get("unexpected", ()))[:20]]
        case "type":
            return [("", f"must be {_types(said)}")]
        case "format":
            name = str(said.get("format", ""))
            return [("", f"must be {_FORMATS.get(name, f'of the format {name}')}")]
        case "enum":
            return [("", f"must be one of {_listed(said.get('options'))}")]
        case "const":
            return [("", f"must be {_shown(said.get('expected_value'))}")]
        case "pattern":
            return [("", f"must match {str(said.get('pattern', ''))[:LONGEST]}")]
        case "falseSchema":
            return [("", "is not allowed here")]
        case "anyOf" | "oneOf":
            return [("", _alternatives(said.get("context", ())))]
        case "not":
            return [("", "is of a kind that is excluded")]
        case "uniqueItems":
            return [("", "holds the same item twice")]
        case "multipleOf":
            return [("", f"must be a multiple of {said.get('multiple_of')}")]
        case "contains":
            return [("", "holds no item of the kind that it must hold")]
        case "propertyNames":
            return [("", "has a name that is not allowed")]
        case _:
            words = _BOUNDS.get(keyword)
            return [("", words.format(bound))] if words else [("", f"does not fit what ‘{keyword}’ says")]


_BOUNDS = {
    "minimum": "must be at least {}",
    "maximum": "must be at most {}",
    "exclusiveMinimum": "must be more than {}",
    "exclusiveMaximum": "must be less than {}",
    "minLength": "must have at least {} characters",
    "maxLength": "must have at most {} characters",
    "minItems": "must have at least {} items",
    "maxItems": "must have at most {} items",
    "minProperties": "must have at least {} names",
    "maxProperties": "must have at most {} names",
}


def _alternatives(context: Sequence[Sequence[Any]]) -> str:
    """What is wrong with each of several schemas of which one should hold; `context` holds the errors of each."""
    if any(not errors for errors in context):
        return "fits more than one of the alternatives, of which only one may hold"
    told = []
    for errors in context[:MOST_ALTERNATIVES]:
        error = errors[0]
        below, words = (in_words(error.kind.name, error.kind.as_dict()) or [("", "does not fit")])[0]
        place = "".join(f"/{_part(str(part))}" for part in list(error.instance_path)[-1:]) + below
        told.append(f"{place} {words}".strip() if below else words)
    whole = "; ".join(dict.fromkeys(told))
    return f"fits none of the alternatives ({whole})" if len(whole) <= LONGEST else "fits none of the alternatives"


def _part(name: str) -> str:
    return name.replace("~", "~0").replace("/", "~1")


def _types(said: Mapping[str, Any]) -> str:
    types = said.get("types", said.get("type", ()))
    names = [types] if isinstance(types, str) else list(types)
    return " or ".join(_TYPES.get(str(name), str(name)) for name in names) or "of another type"


def _shown(value: Any) -> str:
    text = value if isinstance(value, str) else repr(value)
    return str(text)[:LONGEST]


def _listed(values: Any) -> str:
    shown = [_shown(value) for value in values] if isinstance(values, list) else []
    whole = ", ".join(shown)
    return whole if len(whole) <= LONGEST else f"{len(shown)} values that the description lists"
