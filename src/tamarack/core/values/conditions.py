"""Conditions on a call, as short lines: `query port equals HBR`, `body /cars is present`, `path id matches ^9`."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any, Literal, cast

from pydantic import GetCoreSchemaHandler
from pydantic_core import CoreSchema, core_schema

from tamarack.core.carrying.call import Call
from tamarack.core.linear_patterns import matcher
from tamarack.core.values.call_values import MISSING, PLACES, Place, value_at

Test = Literal["equals", "is one of", "matches", "is at least", "is at most", "is more than", "is less than",
               "is present", "is absent"]  # fmt: skip
_NUMBERS: dict[str, Callable[[float, float], bool]] = {
    "is at least": lambda value, bound: value >= bound,
    "is at most": lambda value, bound: value <= bound,
    "is more than": lambda value, bound: value > bound,
    "is less than": lambda value, bound: value < bound,
}
_FORM = re.compile(
    r"(path|query|header|body)\s+(\S+)\s+"
    r"(?:(equals|is one of|matches|is at least|is at most|is more than|is less than)\s+(\S.*)|(is present|is absent))"
)
EXAMPLES = (
    "query port equals HBR, header x-ship is one of lark, wren, body /cars/0/length is more than 6 or path id matches"
    " ^9"
)
LONGEST_PATTERN = 300


@dataclass(frozen=True, slots=True)
class Condition:
    """One line. Values are compared as text, with numbers as JSON writes them; comparisons need numbers."""

    place: Place
    name: str
    test: Test
    values: tuple[str, ...] = ()
    _holds: Callable[[Any], bool] = field(default=lambda value: False, compare=False, repr=False)

    def __str__(self) -> str:
        return f"{self.place} {self.name} {self.test} {', '.join(self.values)}".rstrip()

    def holds(self, call: Call) -> bool:
        """Whether a call meets it."""
        return self._holds(value_at(call, self.place, self.name))

    @classmethod
    def __get_pydantic_core_schema__(cls, source: Any, handler: GetCoreSchemaHandler) -> CoreSchema:
        return core_schema.no_info_plain_validator_function(
            parse, serialization=core_schema.plain_serializer_function_ser_schema(str)
        )


def _text(value: Any) -> str | None:
    if isinstance(value, bool):
        return "true" if value else "false"
    if value is None:
        return "null"
    return None if isinstance(value, list | dict) else str(value)


def _number(value: Any) -> float | None:
    if isinstance(value, bool) or not isinstance(value, int | float | str):
        return None
    try:
        return float(value)
    except (ValueError, OverflowError):
        return None


def _decides(test: Test, values: tuple[str, ...]) -> Callable[[Any], bool]:
    if test == "is present":
        return lambda value: value is not MISSING
    if test == "is absent":
        return lambda value: value is MISSING
    if test in _NUMBERS:
        bound = _number(values[0])
        if bound is None:
            raise ValueError(f"{values[0]!r} is not a number, and ‘{test}’ compares numbers")
        compares = _NUMBERS[test]

        def compared(value: Any) -> bool:
            number = _number(value)
            return number is not None and compares(number, bound)

        return compared
    if test == "matches":
        if len(values[0]) > LONGEST_PATTERN:
            raise ValueError(f"a pattern has at most {LONGEST_PATTERN} characters, this one has {len(values[0])}")
        matches = matcher(values[0])
        return lambda value: (text := _text(value)) is not None and value is not MISSING and matches(text)
    wanted = frozenset(values)
    return lambda value: value is not MISSING and _text(value) in wanted


def parse(value: Any) -> Condition:
    """A condition from its line. Raises ValueError, in words."""
    if isinstance(value, Condition):
        return value
    text = str(value).strip()
    found = _FORM.fullmatch(text)
    if found is None:
        raise ValueError(f"{text!r} is not a condition; write it like {EXAMPLES}")
    place, name, test, rest, alone = found.groups()
    if place not in PLACES:
        raise ValueError(f"{text!r} names no place; it begins with path, query, header or body")
    if place == "header":
        name = name.lower()
    if place == "body" and not name.startswith("/"):
        raise ValueError(f"{name!r} is not a JSON Pointer; it starts with /, like /from/port")
    chosen = cast(Test, alone or test)
    values: tuple[str, ...] = ()
    if rest is not None:
        values = tuple(part.strip() for part in rest.split(",")) if chosen == "is one of" else (rest.strip(),)
        if not all(values):
            raise ValueError(f"{text!r} has an empty value between its commas")
    return Condition(place, name, chosen, values, _decides(chosen, values))
