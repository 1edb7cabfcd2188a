"""Values of parameters as they came in a call, read by their style (OpenAPI 3.1, 4.8.12.1): the other way round from
`core.openapi.parameter_styles`.

A text is read as the kinds that the description allows; one that is none of them stays text, for the schema to refuse.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from math import isfinite
from typing import Any
from urllib.parse import unquote_to_bytes

import orjson

from tamarack.core.checking.described import DescribedParameter, Kind

ABSENT: Any = object()
Pairs = Sequence[tuple[str, str]]
"""Names and texts of a query or of cookies, decoded."""
MOST_PAIRS = 1_000
_WHOLE = re.compile(r"-?[0-9]{1,19}")
_NUMBER = re.compile(r"-?(0|[1-9][0-9]*)(\.[0-9]+)?([eE][+-]?[0-9]{1,3})?")
_BETWEEN = {"spaceDelimited": " ", "pipeDelimited": "|"}


def pairs_of(query: bytes) -> list[tuple[str, str]]:
    """A query string's names and texts, decoded (URL standard, 5.1), in their order; at most `MOST_PAIRS`."""
    return [(_decoded(name), _decoded(value)) for part in query.split(b"&", MOST_PAIRS)[:MOST_PAIRS] if part
            for name, _, value in (part.partition(b"="),)]  # fmt: skip


def cookie_pairs(value: str) -> list[tuple[str, str]]:
    """The names and texts of a Cookie field (RFC 6265, 4.2)."""
    return [(name.strip(), text.strip()) for part in value.split(";", MOST_PAIRS)[:MOST_PAIRS]
            for name, _, text in (part.partition("="),)]  # fmt: skip


def _decoded(part: bytes) -> str:
    return unquote_to_bytes(part.replace(b"+", b" ")).decode("utf-8", "replace")


def in_pairs(one: DescribedParameter, pairs: Pairs) -> Any:
    """A parameter's value in a query or in cookies; `ABSENT` where it is not there."""
    name, kinds = one.name, one.kinds
    if one.as_json:
        return next((_json(text) for given, text in pairs if given == name), ABSENT)
    if "object" in kinds:
        found = _object_in(one, pairs)
        if found is not ABSENT or kinds == ("object",):
            return found
    texts = [text for given, text in pairs if given == name]
    if not texts:
        return ABSENT
    if "array" in kinds and (one.explode or len(texts) == 1):
        if not one.explode or (len(texts) == 1 and one.style in _BETWEEN):
            texts = texts[0].split(_BETWEEN.get(one.style, ","))
        return [typed(text, one.items) for text in texts]
    if len(texts) > 1:  # it stands several times, and is no list
        return [typed(text, kinds) for text in texts]
    return typed(texts[0], kinds)


def _object_in(one: DescribedParameter, pairs: Pairs) -> Any:
    inner = dict(one.inner)
    if one.style == "deepObject":
        begins = f"{one.name}["
        found = {given[len(begins) : -1]: text for given, text in pairs if given[:-1].startswith(begins)
                 and given.endswith("]")}  # fmt: skip
    elif one.explode:
        found = {given: text for given, text in pairs if given in inner}
    else:
        text = next((text for given, text in pairs if given == one.name), None)
        found = _by_two(text.split(",")) if text is not None else {}
    return {key: typed(text, inner.get(key, ("any",))) for key, text in found.items()} if found else ABSENT


def names_in(one: DescribedParameter, pairs: Pairs) -> Iterable[str]:
    """The names in a query that are this parameter's."""
    if "object" in one.kinds and not one.as_json:
        if one.style == "deepObject":
            begins = f"{one.name}["
            return [given for given, _ in pairs if given.startswith(begins) and given.endswith("]")]
        if one.explode:
            return [one.name, *(name for name, _ in one.inner)]
    return [one.name]


def in_text(one: DescribedParameter, text: str) -> Any:
    """A parameter's value in a path's segment or a header field: `simple`, `label` or `matrix`."""
    if one.as_json:
        return _json(text)
    kinds, between = one.kinds, ","
    if one.style == "label" and text.startswith("."):
        text, between = text[1:], "." if one.explode else ","
    elif one.style == "matrix" and text.startswith(";"):
        parts = text[1:].split(";")
        if "object" in kinds and one.explode:
            return _inner(one, dict(part.partition("=")[::2] for part in parts))
        texts = [part.partition("=")[2] for part in parts]
        text = ",".join(texts)
    header = one.place == "header"
    if "array" in kinds:
        parts = text.split(between)
        return [typed(part.strip() if header else part, one.items) for part in parts] if text else []
    if "object" in kinds:
        parts = text.split(between)
        pairs = dict(part.partition("=")[::2] for part in parts) if one.explode else _by_two(parts)
        return _inner(one, pairs)
    return typed(text, kinds)


def _inner(one: DescribedParameter, pairs: dict[str, str]) -> dict[str, Any]:
    inner = dict(one.inner)
    return {key: typed(text, inner.get(key, ("any",))) for key, text in pairs.items()}


def _by_two(parts: list[str]) -> dict[str, str]:
    return dict(zip(parts[::2], parts[1::2], strict=False))


def typed(text: str, kinds: Sequence[Kind]) -> Any:
    """A text as the first of the kinds that it can be; text where it can be none."""
    for kind in kinds:
        if kind == "integer" and _WHOLE.fullmatch(text):
            return int(text)
        if kind == "number" and _NUMBER.fullmatch(text):
            value = float(text)
            if not isfinite(value):
                continue
            return int(value) if value.is_integer() and abs(value) < 2**53 else value
        if kind == "boolean" and text in ("true", "false"):
            return text == "true"
        if kind == "null" and text in ("null", ""):
            return None
    return text


def _json(text: str) -> Any:
    try:
        return orjson.loads(text)
    except ValueError:
        return text
