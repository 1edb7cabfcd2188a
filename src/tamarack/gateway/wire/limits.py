"""What a caller may take: bytes, time, and connections."""

from __future__ import annotations

from dataclasses import dataclass

from tamarack.settings import Settings


@dataclass(frozen=True, slots=True)
class WireLimits:
    """Limits on callers' connections. Times are seconds, sizes bytes."""

    head: int = 32_768
    """A request line and its header fields together."""
    target: int = 16_384
    """A path and query together."""
    fields: int = 256
    """How many header fields."""
    head_s: float = 10.0
    """For a whole head, from its first byte."""
    idle_s: float = 75.0
    """Between two requests."""
    connections: int = 10_000
    lowest_rate: int = 1_000
    """Bytes a second that a body comes at, at least, once `grace_s` are over; what the gateway itself waits does not
    count against the caller."""
    grace_s: float = 10.0
    stall_s: float = 60.0
    """The longest pause in a body, and the longest that a caller takes nothing of an answer."""
    linger_s: float = 5.0
    """How long a body is read on and thrown away after its call was answered, so that the answer can be read."""

    @classmethod
    def of(cls, settings: Settings) -> WireLimits:
        """The limits that an installation sets."""
        return cls(
            head=settings.head_limit_bytes,
            target=settings.target_limit_bytes,
            head_s=settings.head_timeout_ms / 1000,
            idle_s=settings.idle_timeout_s,
            connections=settings.most_connections,
            lowest_rate=settings.lowest_body_rate_bytes,
            grace_s=settings.body_grace_s,
        )
