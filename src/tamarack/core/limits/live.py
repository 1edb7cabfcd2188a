"""Live counters: what is counted at this moment, one row for each window and key."""

import heapq
from collections.abc import Iterable
from typing import NamedTuple

from tamarack.core.limits.store import Limiter
from tamarack.core.limits.stretch import Stretch
from tamarack.core.limits.window import Window


class LiveCounter(NamedTuple):
    """One count: under which limiter and window, for which key, how much, and the seconds until it is back."""

    id: str
    window: str
    key: str
    used: int
    limit: int
    reset: int
    held: int = 0
    """Calls that wait for it."""

    @classmethod
    def of(cls, limiter: Limiter, window: Window | Stretch, key: str, left: int, wait_us: int) -> "LiveCounter":
        """From what a look at the counter says."""
        used = window.quota - left
        reset = 0 if not used else max(0, -(-wait_us // 1_000_000))
        return cls(limiter.id, limiter.said(window), key, used, window.quota, reset)

    @property
    def share(self) -> float:
        """How much of the limit is used, 1 for all of it."""
        return self.used / self.limit


def listed(counters: Iterable[LiveCounter], most: int) -> list[LiveCounter]:
    """Those that count something, the fullest first."""
    return heapq.nlargest(most, (one for one in counters if one.used > 0 or one.held), key=lambda one: one.share)
