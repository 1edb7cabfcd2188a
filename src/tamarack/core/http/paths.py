"""Paths, settled once before anything is decided over them (RFC 3986, section 6.2.2).

A path is brought to one spelling, and that spelling is what is routed, counted, and sent to the backend; so no two
readings of it can meet. What has no one meaning is refused.
"""

from __future__ import annotations

import re

from tamarack.core.errors import CoreError

_PLAIN = re.compile(rb"/[!$&-\[\]-~]*\Z")
"""Printable ASCII but for `"`, `#`, `%`, the backslash, which some backends read as a slash, and blanks."""
_ALLOWED = re.compile(rb"/[!$-\[\]-~]*\Z")
_ESCAPE = re.compile(rb"%(..?)?")
_HEX = re.compile(rb"[0-9A-Fa-f]{2}\Z")
_UNRESERVED = frozenset(b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-._~")
_DOTS = frozenset((b".", b".."))
_DOTS_INSIDE = re.compile(rb"(?:^|%2F|%5C|/)\.\.?(?:%2F|%5C|/|$)", re.IGNORECASE)
_DOT_AGAIN = re.compile(rb"%25(?:25)*2e", re.IGNORECASE)


class BadPath(CoreError, ValueError):
    """The path may not be passed on; see the module's text."""


def _settled(escape: re.Match[bytes]) -> bytes:
    digits = escape[1]
    if digits is None or _HEX.match(digits) is None:
        raise BadPath
    code = int(digits, 16)
    if not code:
        raise BadPath
    return bytes((code,)) if code in _UNRESERVED else b"%" + digits.upper()


def settle_path(path: bytes) -> bytes:
    """The one spelling of a path: escapes of plain characters undone, those that stay in capitals.

    Raises `BadPath` for a path with dot segments in whichever spelling, also behind an encoded slash or encoded
    twice; for escapes that are none (`%zz`, a lone `%`) and `%00`; for fragments, backslashes and what is not
    printable ASCII.
    """
    if _PLAIN.match(path) is not None and b"/." not in path:
        return path
    if _ALLOWED.match(path) is None:
        raise BadPath
    if b"%" in path:
        path = _ESCAPE.sub(_settled, path)
        if _DOTS_INSIDE.search(path) is not None or _DOT_AGAIN.search(path) is not None:
            raise BadPath
    if b"/." in path and not _DOTS.isdisjoint(path.split(b"/")):
        raise BadPath
    return path


def behind(path: bytes, segments: int) -> bytes:
    """A settled path without its first segments, each of which begins with a slash; `/` where nothing is left."""
    place = 0
    for _ in range(segments):
        place = path.find(b"/", place + 1)
        if place < 0:
            return b"/"
    return path[place:]
