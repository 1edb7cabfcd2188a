"""Values by JSONPath (RFC 9535), within bounds: what could look at each value for each other is refused when saved."""

from __future__ import annotations

from functools import lru_cache
from typing import Any

import jsonpath
from jsonpath.exceptions import JSONPathError
from jsonpath.function_extensions import ExpressionType, FilterFunction

from tamarack.core.checking.schemas import more_than
from tamarack.core.errors import CoreError
from tamarack.core.linear_patterns import matches

LONGEST = 200
MOST_VALUES = 1_000
"""Values of a document that a path is looked up in."""


class TooMany(CoreError, ValueError):
    """A document with more values than a path is looked up in."""


class _Matches(FilterFunction):
    """`match` and `search` in time that grows with the text alone."""

    arg_types = [ExpressionType.VALUE, ExpressionType.VALUE]
    return_type = ExpressionType.LOGICAL

    def __init__(self, whole: bool) -> None:
        self._whole = whole

    def __call__(self, text: object, pattern: object) -> bool:
        if not isinstance(text, str) or not isinstance(pattern, str):
            return False
        return matches(f"^(?:{pattern})$" if self._whole else pattern, text)


def _environment() -> jsonpath.JSONPathEnvironment:
    made = jsonpath.JSONPathEnvironment(strict=True)
    made.function_extensions["match"] = _Matches(True)
    made.function_extensions["search"] = _Matches(False)
    return made


_ENVIRONMENT = _environment()


@lru_cache(maxsize=1024)
def compile_path(text: str) -> Any:
    """A path, ready. Raises ValueError, in words."""
    if len(text) > LONGEST:
        raise ValueError(f"a JSONPath has at most {LONGEST} characters, this one has {len(text)}")
    for sign, words in (("..", "goes into all depths (..)"), ("?", "filters (?)")):
        if text.count(sign) > 1:
            raise ValueError(f"{text!r} {words} more than once, for which a call has no time")
    if text.count("$") > 1:
        raise ValueError(f"{text!r} begins anew ($) within itself, for which a call has no time")
    try:
        return _ENVIRONMENT.compile(text)
    except JSONPathError as error:
        words = str(error).partition("\n")[0][:120]
        raise ValueError(f"{text!r} is no JSONPath: {words}; write it like $.cars[*].length") from error


def values_at(text: str, document: Any) -> list[Any]:
    """The values that a path leads to. Raises `TooMany`."""
    if more_than(document, MOST_VALUES):
        raise TooMany(f"it holds more than {MOST_VALUES:,} values, too many for a JSONPath")
    try:
        found: list[Any] = compile_path(text).findall(document)
    except (JSONPathError, RecursionError):
        return []
    return found
