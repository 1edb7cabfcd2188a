"""Text: of people, made safe for one line of a log, a field, a title, a mail or a database; and for people."""

import re
import unicodedata
from collections.abc import Sequence
from typing import Any

_UNSTORABLE = re.compile(r"[\x00\ud800-\udfff]")
_CONTROL = re.compile(r"[\x00-\x1f\x7f-\x9f\u2028\u2029]|[\ud800-\udfff]")
_TURNING = re.compile(r"[\u061c\u200e\u200f\u202a-\u202e\u2066-\u2069]")
"""Marks that turn the direction of what follows, so that a text reads as another (Unicode Technical Report 36)."""
_ENCODED = re.compile(r"=\?[^?\s]{1,40}\?[bBqQ]\?")
"""How an encoded word of mail begins (RFC 2047): a mail program would show something else in its place."""
_KEPT = "\t\n\r"
_PARAMETER = re.compile(r"\{[^{}/]+\}")


def in_words(names: Sequence[str], last: str = "and") -> str:
    """Things in a row: `a`, `a and b`, `a, b and c`."""
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} {last} {names[-1]}" if names else ""


def time_in_words(ms: int) -> str:
    """Milliseconds as people say them: `250 ms`, `2 s`, `2.5 s`."""
    return f"{ms} ms" if ms < 1000 else f"{ms / 1000:g} s"


def call_shape(call: str) -> str:
    """A method and path template without its parameters' names: two of one shape match the same calls."""
    return _PARAMETER.sub("{}", call)


def one_line(text: str) -> str:
    """A text without control characters, line ends and lone surrogates: each becomes U+FFFD.

    PostgreSQL takes no NUL in text, and nothing takes a lone surrogate as UTF-8.
    """
    return text if text.isascii() and text.isprintable() else _CONTROL.sub("\ufffd", text)


def line_problem(text: str) -> str:
    """Why a text cannot stand in one line that people and programs read; empty where it can."""
    for pattern, words in (
        (_CONTROL, "which cannot stand in one line; remove it"),
        (_TURNING, "which changes the direction of the text after it; remove it"),
    ):
        found = pattern.search(text)
        if found is not None:
            return f"holds {_named(found[0])}, {words}"
    if _ENCODED.search(text):
        return "holds an encoded word of mail (=?…?=); write it as plain text"
    return ""


def text_problem(text: str) -> str:
    """Why a text of several lines cannot be kept; empty where it can."""
    found = next((letter for letter in _CONTROL.findall(text) if letter not in _KEPT and letter not in "\u2028\u2029"),
                 None)  # fmt: skip
    return f"holds {_named(found)}, which no page can show; remove it" if found is not None else ""


def _named(letter: str) -> str:
    if letter in ("\n", "\r"):
        return "a line end"
    return f"the character U+{ord(letter):04X} ({unicodedata.name(letter, 'a control character').lower()})"


def cleaned(value: Any) -> Any:
    """JSON in which every text is one that a database takes; see `one_line`. Line ends and tabs stay."""
    if isinstance(value, str):
        return value if value.isascii() and value.isprintable() else _UNSTORABLE.sub("\ufffd", value)
    if isinstance(value, dict):
        return {cleaned(key): cleaned(inner) for key, inner in value.items()}
    if isinstance(value, list | tuple):
        return [cleaned(inner) for inner in value]
    return value
