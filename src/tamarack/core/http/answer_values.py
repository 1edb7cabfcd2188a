"""Numbers that an answer tells in its body, read as the body passes: JSON as a whole, or the events of a stream.

What is found depends on the bytes alone, never on how they were cut on their way.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import orjson

from tamarack.core.http.fields import Header

LARGEST_READ = 1_000_000
"""Bytes of a JSON answer, or of one event, that are looked into."""
_EVENTS = b"text/event-stream"

Found = Callable[[Any], None]
"""Is given each JSON document that an answer holds."""


def _media(headers: Sequence[Header]) -> bytes:
    return next((value for name, value in headers if name == b"content-type"), b"").strip().lower()


class Documents:
    """A `core.carrying.call.Watching` that gives each JSON document of an answer to `found`."""

    __slots__ = ("_found", "_held", "_size")

    def __init__(self, found: Found) -> None:
        self._found = found
        self._held: list[bytes] = []
        self._size = 0

    def piece(self, data: bytes) -> None:
        """See `Watching.piece`."""
        self._size += len(data)
        if self._size <= LARGEST_READ:
            self._held.append(data)
        else:
            self._held.clear()

    def end(self, complete: bool) -> None:
        """See `Watching.end`."""
        if complete and self._held:
            _read(b"".join(self._held), self._found)


class Events:
    """The same for server-sent events (HTML standard, 9.2.6), of which each may hold a JSON document.

    An event ends with an empty line; lines end with CR, LF or both. One that is cut off is not read.
    """

    __slots__ = ("_after_cr", "_data", "_found", "_line", "_over", "_size")

    def __init__(self, found: Found) -> None:
        self._found = found
        self._line = bytearray()
        self._over = False
        self._data: list[bytes] = []
        self._size = 0
        self._after_cr = False

    def piece(self, data: bytes) -> None:
        """See `Watching.piece`."""
        if self._after_cr and data[:1] == b"\n":
            data = data[1:]
        if not data:
            return
        self._after_cr = data[-1:] == b"\r"
        first, *lines = data.replace(b"\r\n", b"\n").replace(b"\r", b"\n").split(b"\n")
        self._grow(first)
        for line in lines:
            self._take()
            self._grow(line)

    def _grow(self, more: bytes) -> None:
        """A line goes on; of one that is too long only its field's name is kept."""
        line = self._line
        line += more
        if len(line) > LARGEST_READ:
            self._over = True
            del line[5:]

    def _take(self) -> None:
        """A line has ended."""
        line, over = bytes(self._line), self._over
        self._line.clear()
        self._over = False
        if not line:
            if self._data and self._size <= LARGEST_READ:
                _read(b"\n".join(self._data), self._found)
            self._data.clear()
            self._size = 0
        elif line[:5] == b"data:":
            self._size += LARGEST_READ + 1 if over else len(line)
            if self._size <= LARGEST_READ:
                self._data.append(line[6:] if line[5:6] == b" " else line[5:])

    def end(self, complete: bool) -> None:
        """See `Watching.end`."""


def _read(text: bytes, found: Found) -> None:
    try:
        document = orjson.loads(text)
    except ValueError:
        return
    found(document)


def documents_of(headers: Sequence[Header], found: Found) -> Documents | Events:
    """What watches an answer with these fields."""
    return Events(found) if _media(headers).startswith(_EVENTS) else Documents(found)
