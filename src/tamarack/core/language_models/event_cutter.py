"""Server-sent events cut out of a stream (HTML standard, 9.2.6), as soon as each is whole."""

from __future__ import annotations

import re

LARGEST_EVENT = 1_000_000
"""Bytes of an event that is looked into; a longer one passes as it is."""
_END = re.compile(rb"(?:\r\n|\n|\r(?!\n))(?:\r\n|\n|\r)")
_LINE_END = re.compile(rb"\r\n|\n|\r")
_CR = 13


class EventCutter:
    """Cuts a stream into events. What is cut does not depend on how the stream came."""

    __slots__ = ("_held", "_passing")

    def __init__(self) -> None:
        self._held = bytearray()
        self._passing = False
        """Within an event that is too long to be looked into."""

    def cut(self, data: bytes) -> list[tuple[bytes, bool]]:
        """The events that are whole now, each with its blank line, and whether it may be looked into; what has come of
        one that is too long counts as such an event."""
        held = self._held
        held += data
        found = []
        at = 0
        while (end := _end_of_event(held, at)) >= 0:
            event = bytes(held[at:end])
            found.append((event, not self._passing and len(event) <= LARGEST_EVENT))
            self._passing = False
            at = end
        del held[:at]
        if self._passing or len(held) > LARGEST_EVENT:
            self._passing = True
            kept = min(3, len(held))  # an end may be cut in two
            found.append((bytes(held[: len(held) - kept]), False))
            del held[: len(held) - kept]
        return found

    def rest(self) -> bytes:
        """What is left when the stream has ended: an event without its end."""
        rest, self._held = bytes(self._held), bytearray()
        return rest


def _end_of_event(held: bytearray, at: int) -> int:
    """Where an event ends that begins at a place; -1 where its end is not here. A CR that stands last may be half of
    a line's end, so it waits for what follows."""
    found = _END.search(held, at)
    if found is None or (found.end() == len(held) and held[-1] == _CR):
        return -1
    return found.end()


def data_of(event: bytes) -> tuple[bytes, list[bytes]]:
    """An event's data, and its other lines."""
    lines = [line for line in _LINE_END.split(event) if line]
    data = [line[5:].removeprefix(b" ") for line in lines if line.startswith(b"data:")]
    return b"\n".join(data), [line for line in lines if not line.startswith(b"data:")]


def as_event(data: bytes, others: list[bytes]) -> bytes:
    """An event of one line of data, with other lines before it."""
    return b"\n".join((*others, b"data: " + data)) + b"\n\n"
