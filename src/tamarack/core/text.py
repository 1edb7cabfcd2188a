"""Text of people, made safe for one line of a log, a field, a title or a database."""

import re
from typing import Any

_UNSTORABLE = re.compile(r"[\x00\ud800-\udfff]")
_CONTROL = re.compile(r"[\x00-\x1f\x7f-\x9f\u2028\u2029]|[\ud800-\udfff]")


def one_line(text: str) -> str:
    """A text without control characters, line ends and lone surrogates: each becomes U+FFFD.

    PostgreSQL takes no NUL in text, and nothing takes a lone surrogate as UTF-8.
    """
    return text if text.isascii() and text.isprintable() else _CONTROL.sub("\ufffd", text)


def cleaned(value: Any) -> Any:
    """JSON in which every text is one that a database takes; see `one_line`. Line ends and tabs stay."""
    if isinstance(value, str):
        return value if value.isascii() and value.isprintable() else _UNSTORABLE.sub("\ufffd", value)
    if isinstance(value, dict):
        return {cleaned(key): cleaned(inner) for key, inner in value.items()}
    if isinstance(value, list | tuple):
        return [cleaned(inner) for inner in value]
    return value
