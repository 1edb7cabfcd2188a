"""Cache-Control (RFC 9111, section 5.2; RFC 5861) and dates, read from header fields."""

from __future__ import annotations

import re
from collections.abc import Iterable
from email.utils import parsedate_to_datetime

from tamarack.core.http.fields import Header

LONGEST_S = 2**31
"""RFC 9111, 1.2.2: greater numbers of seconds count as this one."""
_DIRECTIVE = re.compile(
    rb'([!#$%&\'*+.^_`|~0-9A-Za-z-]+)[ \t]*(?:=[ \t]*(?:"((?:[^"\\]|\\.)*)"|([^",\s]*)))?[^,]*(?:,|$)'
)

Directives = dict[bytes, bytes | None]
"""Directives by name in lower case, each with its argument; of one that comes twice the first counts (4.2.1)."""
NO_DIRECTIVES: Directives = {}


def directives(values: Iterable[bytes]) -> Directives:
    """The directives in the values of all Cache-Control fields of a message."""
    found: Directives = {}
    for value in values:
        for name, quoted, plain in _DIRECTIVE.findall(value):
            found.setdefault(name.lower(), quoted or plain or None)
    return found


def seconds(given: Directives, name: bytes) -> int | None:
    """A directive's number of seconds; None where it is not there. What is no number counts as 0 (4.2.1)."""
    if name not in given:
        return None
    value = given[name]
    return min(int(value[:12]), LONGEST_S) if value is not None and value.isdigit() else 0


def date_of(value: bytes | None) -> float | None:
    """An HTTP date (RFC 9110, 5.6.7) in seconds since the epoch; None where it is none."""
    if value is None:
        return None
    try:
        return parsedate_to_datetime(value.decode("ascii")).timestamp()
    except (ValueError, TypeError, IndexError, OverflowError):
        return None


def values_of(headers: Iterable[Header], name: bytes) -> list[bytes]:
    """The values of all fields of a name."""
    return [value for given, value in headers if given == name]


def listed_value(headers: Iterable[Header], name: bytes) -> bytes:
    """A field's value, of several fields as one list (RFC 9110, 5.3); empty where it is not there."""
    return b", ".join(value.strip() for value in values_of(headers, name))
