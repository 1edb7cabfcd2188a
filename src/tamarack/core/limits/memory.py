"""Counters in this process's memory; each window counts by its algorithm."""

from collections.abc import Sequence

from tamarack.core.limits.algorithms import BucketCounts, FixedCounts, SlidingCounts, counts_for
from tamarack.core.limits.store import Limiter, Taken
from tamarack.core.limits.window import Window

_Counts = FixedCounts | SlidingCounts | BucketCounts


class MemoryCounters:
    """A `CounterStore` for one process."""

    def __init__(self) -> None:
        self._windows: dict[tuple[str, int, str], _Counts] = {}

    def bind(self, limiter: Limiter) -> None:
        limiter.state = tuple(self._bound(limiter.id, window) for window in limiter.windows)

    def _bound(self, id: str, window: Window) -> _Counts:
        key = (id, window.seconds, window.algorithm)
        counts = self._windows.get(key)
        if counts is None:
            counts = self._windows[key] = counts_for(window)
        else:
            counts.follow(window)
        return counts

    def take(self, asked: Sequence[tuple[Limiter, str]], now: float, cost: int = 1) -> Taken:
        if len(asked) == 1 and cost == 1:
            limiter, key = asked[0]
            bound = limiter.state
            if len(bound) == 1 and type(bound[0]) is FixedCounts:  # type: ignore[arg-type, index]
                return _take_one(limiter, bound[0], key, int(now))  # type: ignore[index]
        now_us = int(now * 1_000_000)
        tightest: Window | None = None
        chosen = asked[0][0]
        least = reset = 0
        for limiter, key in asked:
            for counts in limiter.state:  # type: ignore[attr-defined]
                left, seconds = counts.look(key, now_us, cost)
                if left < 0:
                    return Taken(False, limiter, counts.window, 0, seconds)
                if tightest is None or left < least:
                    tightest, least, chosen, reset = counts.window, left, limiter, seconds
        for limiter, key in asked:
            for counts in limiter.state:  # type: ignore[attr-defined]
                counts.put(key, now_us, cost)
        assert tightest is not None
        return Taken(True, chosen, tightest, least, reset)


def _take_one(limiter: Limiter, counts: FixedCounts, key: str, whole: int) -> Taken:
    """`take` for the commonest case: one limiter of one fixed window."""
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
    return Taken(True, limiter, counts.window, counts.limit - used - 1, reset if reset > 0 else 1)
