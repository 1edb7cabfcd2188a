"""A text that matches a pattern (JSON Schema 2020-12, 6.3.3): the plainest, and always the same."""

from __future__ import annotations

import re
import re._constants as op  # type: ignore[import-not-found]
import re._parser as parser  # type: ignore[import-not-found]
from typing import Any

from tamarack.core.errors import CoreError
from tamarack.core.linear_patterns import matches

LONGEST_PATTERN = 500
MOST_REPEATS = 40
LONGEST = 400
_OF_CLASS = {
    op.CATEGORY_DIGIT: "0",
    op.CATEGORY_WORD: "a",
    op.CATEGORY_SPACE: " ",
    op.CATEGORY_NOT_DIGIT: "a",
    op.CATEGORY_NOT_WORD: "-",
    op.CATEGORY_NOT_SPACE: "a",
}
_TRIED = "a0A-_. 1zZ9:/@"


def text_for(pattern: str) -> str | None:
    """The text; None where the pattern cannot be read, or asks for what is not made here (look-around, say)."""
    if len(pattern) > LONGEST_PATTERN:
        return None
    try:
        made = _sequence(parser.parse(pattern), {})
        return made if len(made) <= LONGEST and matches(pattern, made) else None
    except (re.error, _NotMade, RecursionError, OverflowError):
        return None


class _NotMade(CoreError):
    """A part of a pattern that no text is made for."""


def _sequence(parts: Any, groups: dict[int, str]) -> str:
    made = ""
    for kind, value in parts:
        made += _part(kind, value, groups)
        if len(made) > LONGEST:
            raise _NotMade
    return made


def _part(kind: Any, value: Any, groups: dict[int, str]) -> str:
    if kind is op.LITERAL:
        return chr(value)
    if kind is op.NOT_LITERAL:
        return next(one for one in _TRIED if ord(one) != value)
    if kind is op.ANY:
        return "a"
    if kind is op.AT:
        return ""
    if kind is op.IN:
        return _one_of(value)
    if kind is op.BRANCH:
        return _sequence(value[1][0], groups)
    if kind is op.SUBPATTERN:
        made = _sequence(value[3], groups)
        if value[0] is not None:
            groups[value[0]] = made
        return made
    if kind in (op.MAX_REPEAT, op.MIN_REPEAT):
        least, most, inner = value
        if least > MOST_REPEATS:
            raise _NotMade
        return "".join(_sequence(inner, groups) for _ in range(least or (1 if most == 1 else 0)))
    if kind is op.GROUPREF:
        return groups.get(value, "")
    raise _NotMade


def _one_of(choices: Any) -> str:
    """A character of a set."""
    if choices[0][0] is op.NEGATE:
        return next((one for one in _TRIED if not any(_holds(choice, one) for choice in choices[1:])), "~")
    kind, value = choices[0]
    if kind is op.RANGE:
        return chr(value[0])
    return chr(value) if kind is op.LITERAL else _OF_CLASS.get(value, "a")


def _holds(choice: Any, letter: str) -> bool:
    kind, value = choice
    if kind is op.LITERAL:
        return ord(letter) == int(value)
    if kind is op.RANGE:
        return int(value[0]) <= ord(letter) <= int(value[1])
    return {"0": letter.isdigit(), "a": letter.isalnum(), " ": letter.isspace()}.get(_OF_CLASS.get(value, ""), False)
