"""JSON (RFC 8259) as data, bounded before it is parsed, and the lines of its values when they are asked for."""

import json
import math
import re
from typing import Any

from tamarack.core.documents.bounds import (
    DEEPEST,
    LONGEST_NUMBER,
    MOST_VALUES,
    NotReadable,
    Path,
    too_deep,
    too_long,
    too_many,
)
from tamarack.core.documents.lines import Lines, Place

_STRING = r'"(?:[^"\\]++|\\.)*+"'
_STRINGS = re.compile(_STRING, re.DOTALL)
_BRACKETS = re.compile(r"[\[\]{}]")
_LONG_NUMBER = re.compile(rf"[0-9.eE+-]{{{LONGEST_NUMBER + 1},}}")
_TOKENS = re.compile(rf"{_STRING}|[\[\]{{}}:,\n]|[^\[\]{{}}:,\n\"\s]++", re.DOTALL)


def read(text: str) -> tuple[Any, bool]:
    """The data, and whether a key stands twice in a mapping. Raises `NotReadable` with the line."""
    _bound(text)
    doubled = False

    def mapping(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
        nonlocal doubled
        made = dict(pairs)
        doubled = doubled or len(made) != len(pairs)
        return made

    def fraction(number: str) -> float:
        value = float(number)
        if math.isinf(value):
            raise too_long(number, text.count("\n", 0, text.find(number)) + 1)
        return value

    def unknown(word: str) -> Any:
        raise NotReadable(f"{word} is not a value of JSON", text.count("\n", 0, text.find(word)) + 1)

    try:
        data = json.loads(text, object_pairs_hook=mapping, parse_float=fraction, parse_constant=unknown, strict=False)
    except json.JSONDecodeError as error:
        raise NotReadable(f"{_WORDS.get(error.msg, error.msg)} (column {error.colno})", error.lineno) from error
    return data, doubled


def value_of(text: str) -> Any:
    """The value of a JSON text from anywhere, within bounds. Raises `NotReadable`, which is a ValueError."""
    return read(text)[0]


_WORDS = {
    "Expecting value": "a value is missing here",
    "Expecting property name enclosed in double quotes": "a name in double quotes is missing here",
    "Illegal trailing comma before end of object": "nothing follows this comma; remove it",
    "Illegal trailing comma before end of array": "nothing follows this comma; remove it",
    "Expecting ',' delimiter": "a comma is missing here",
    "Expecting ':' delimiter": "a colon is missing here",
    "Unterminated string starting at": "this text has no closing quote",
    "Invalid \\escape": "a backslash here begins no escape that JSON knows",
    "Invalid \\uXXXX escape": "four hexadecimal digits have to follow \\u",
    "Extra data": "the text goes on after its end",
}


def _bound(text: str) -> None:
    """Refuse what is too deep, too much or too long, without building anything."""
    bare = _STRINGS.sub("", text)
    depth = 0
    for found in _BRACKETS.finditer(bare):
        if found[0] in "[{":
            depth += 1
            if depth > DEEPEST:
                raise too_deep(_line_of(text, bare, found.start()))
        else:
            depth -= 1
    if bare.count(",") + bare.count("[") + bare.count("{") > MOST_VALUES:
        raise too_many(1)
    if number := _LONG_NUMBER.search(bare):
        raise too_long(number[0], _line_of(text, bare, number.start()))


def _line_of(text: str, bare: str, at: int) -> int:
    """The line in the text of a place in the text without strings; strings of JSON hold no line ends."""
    return bare.count("\n", 0, at) + 1


def lines_of(text: str) -> Lines:
    """The line of each value, and the keys that stand twice. The text was read before, so it is within the bounds."""
    top = Place(1)
    held: list[tuple[Place, bool, Path]] = []  # what is open: its place, whether it is a mapping, its path
    key: str | int | None = None
    line = 1
    doubled: list[tuple[Path, int]] = []
    for found in _TOKENS.finditer(text):
        part = found[0]
        if part == "\n":
            line += 1
        elif part in "[{":
            place = Place(line)
            path: Path = ()
            if held:
                holder, mapping, outer = held[-1]
                if not mapping:
                    key = len(holder.lines)
                    holder.lines[key] = line
                assert key is not None
                holder.inner[key] = place
                path = (*outer, key)
            else:
                top = place
            held.append((place, part == "{", path))
            key = None
        elif part in "]}":
            if held:
                held.pop()
            key = None
        elif part == ",":
            key = None
        elif part != ":" and held:
            holder, mapping, outer = held[-1]
            if not mapping:
                holder.lines[len(holder.lines)] = line
            elif key is None:
                key = str(json.loads(part, strict=False))
                if key in holder.lines:
                    doubled.append(((*outer, key), line))
                holder.lines[key] = line
            if part[0] == '"':
                line += part.count("\n")
    return Lines(top, doubled)
