"""A stream without the event that tells its usage, for a caller who did not ask for one.

Events pass as soon as they are whole, as they came; what is held back is at most one that is not whole yet.
"""

from __future__ import annotations

import re

import orjson

LARGEST_EVENT = 1_000_000
"""Bytes of an event that is looked into; a longer one passes as it is."""
_END = re.compile(rb"(?:\r\n|\n|\r(?!\n))(?:\r\n|\n|\r)")
_LINE_END = re.compile(rb"\r\n|\n|\r")
_CR = 13
_USAGE = b'"usage"'


class WithoutUsage:
    """Takes usage off a stream of events (HTML standard, 9.2.6). What comes out does not depend on how it was cut."""

    __slots__ = ("_held", "_passing")

    def __init__(self) -> None:
        self._held = bytearray()
        self._passing = False
        """Within an event that is too long to be looked into."""

    def piece(self, data: bytes) -> bytes:
        """What passes on of this piece and those before it."""
        held = self._held
        held += data
        passed = []
        at = 0
        while (end := _end_of_event(held, at)) >= 0:
            event = bytes(held[at:end])
            passed.append(event if self._passing or len(event) > LARGEST_EVENT else _without(event))
            self._passing = False
            at = end
        del held[:at]
        if self._passing or len(held) > LARGEST_EVENT:
            self._passing = True
            kept = 3 if len(held) > 3 else len(held)  # an end may be cut in two
            passed.append(bytes(held[: len(held) - kept]))
            del held[: len(held) - kept]
        return b"".join(passed)

    def end(self) -> bytes:
        """What is left when the stream has ended."""
        rest, self._held = bytes(self._held), bytearray()
        return rest


def _end_of_event(held: bytearray, at: int) -> int:
    """Where an event ends that begins at a place; -1 where its end is not here. A CR that stands last may be half of
    a line's end, so it waits for what follows."""
    found = _END.search(held, at)
    if found is None or (found.end() == len(held) and held[-1] == _CR):
        return -1
    return found.end()


def _without(event: bytes) -> bytes:
    """An event without its usage; nothing where it tells nothing else."""
    if _USAGE not in event:
        return event
    lines = [line for line in _LINE_END.split(event) if line]
    data = [line[5:].removeprefix(b" ") for line in lines if line.startswith(b"data:")]
    try:
        told = orjson.loads(b"\n".join(data))
    except ValueError:
        return event
    if not isinstance(told, dict) or "usage" not in told:
        return event
    if told.pop("usage") is not None and not told.get("choices"):
        return b""
    others = [line for line in lines if not line.startswith(b"data:")]
    return b"\n".join((*others, b"data: " + orjson.dumps(told))) + b"\n\n"
