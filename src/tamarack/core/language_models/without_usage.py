"""A stream without the event that tells its usage, for a caller who did not ask for one.

Events pass as soon as they are whole, as they came; what is held back is at most one that is not whole yet.
"""

from __future__ import annotations

import orjson

from tamarack.core.language_models.event_cutter import EventCutter, as_event, data_of

_USAGE = b'"usage"'


class WithoutUsage:
    """A `core.carrying.forwarding.Filter` that takes usage off a stream of events."""

    __slots__ = ("_cutter",)

    def __init__(self) -> None:
        self._cutter = EventCutter()

    def piece(self, data: bytes) -> bytes:
        """What passes on of this piece and those before it."""
        return b"".join(_without(event) if looks else event for event, looks in self._cutter.cut(data))

    def end(self) -> bytes:
        """What is left when the stream has ended."""
        return self._cutter.rest()


def _without(event: bytes) -> bytes:
    """An event without its usage; nothing where it tells nothing else."""
    if _USAGE not in event:
        return event
    data, others = data_of(event)
    try:
        told = orjson.loads(data)
    except ValueError:
        return event
    if not isinstance(told, dict) or "usage" not in told:
        return event
    if told.pop("usage") is not None and not told.get("choices"):
        return b""
    return as_event(orjson.dumps(told), others)
