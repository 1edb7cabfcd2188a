"""Text of people, made safe for one line of a log, a field, a title or a database."""

import re

_CONTROL = re.compile(r"[\x00-\x1f\x7f-\x9f\u2028\u2029]|[\ud800-\udfff]")


def one_line(text: str) -> str:
    """A text without control characters, line ends and lone surrogates: each becomes U+FFFD.

    PostgreSQL takes no NUL in text, and nothing takes a lone surrogate as UTF-8.
    """
    return text if text.isascii() and text.isprintable() else _CONTROL.sub("\ufffd", text)
