"""Counters in this process's memory: fixed windows aligned to the epoch.

Each window keeps only the counts of its running stretch, so a new stretch forgets all keys at once and
memory is bounded by the callers seen in one stretch.
"""

from collections.abc import Sequence

from tamarack.core.limits.store import Limiter, Taken
from tamarack.core.limits.window import Window


class _Counts:
    __slots__ = ("by_key", "limit", "seconds", "started", "window")

    def __init__(self, window: Window) -> None:
        self.window = window
        self.limit = window.limit
        self.seconds = window.seconds
        self.started = -1
        self.by_key: dict[str, int] = {}


class MemoryCounters:
    """A `CounterStore` for one process. A clock that goes backwards stays in the later stretch."""

    def __init__(self) -> None:
        self._windows: dict[tuple[str, int], _Counts] = {}

    def bind(self, limiter: Limiter) -> None:
        bound = []
        for window in limiter.windows:
            key = (limiter.id, window.seconds)
            counts = self._windows.get(key)
            if counts is None:
                counts = self._windows[key] = _Counts(window)
            counts.window = window
            counts.limit = window.limit
            bound.append(counts)
        limiter.state = tuple(bound)

    def take(self, asked: Sequence[tuple[Limiter, str]], now: float) -> Taken:
        whole = int(now)
        if len(asked) == 1:
            limiter, key = asked[0]
            if len(limiter.state) == 1:  # type: ignore[arg-type]
                return _take_one(limiter, limiter.state[0], key, whole)  # type: ignore[index]
        tightest: _Counts | None = None
        chosen = asked[0][0]
        least = 0
        reset = 0
        for limiter, key in asked:
            for counts in limiter.state:  # type: ignore[attr-defined]
                seconds = counts.seconds
                started = whole - whole % seconds
                if started > counts.started:
                    counts.started = started
                    counts.by_key = {}
                used = counts.by_key.get(key, 0)
                left = counts.limit - used - 1
                if left < 0:
                    return Taken(False, limiter, counts.window, 0, max(1, counts.started + seconds - whole))
                if tightest is None or left < least:
                    tightest, least, chosen = counts, left, limiter
                    reset = counts.started + seconds - whole
        for limiter, key in asked:
            for counts in limiter.state:  # type: ignore[attr-defined]
                by_key = counts.by_key
                by_key[key] = by_key.get(key, 0) + 1
        assert tightest is not None
        return Taken(True, chosen, tightest.window, least, reset)


def _take_one(limiter: Limiter, counts: _Counts, key: str, whole: int) -> Taken:
    """`take` for the commonest case: one limiter of one window."""
    seconds = counts.seconds
    started = whole - whole % seconds
    if started > counts.started:
        counts.started = started
        counts.by_key = {}
    by_key = counts.by_key
    used = by_key.get(key, 0)
    reset = counts.started + seconds - whole
    if used >= counts.limit:
        return Taken(False, limiter, counts.window, 0, reset if reset > 0 else 1)
    by_key[key] = used + 1
    return Taken(True, limiter, counts.window, counts.limit - used - 1, reset)
