"""Counters in this process's memory; each window counts by its algorithm."""

from collections.abc import Iterator
from contextlib import contextmanager

from tamarack.core.limits.algorithms import BucketCounts, FixedCounts, SlidingCounts, StretchCounts, counts_for
from tamarack.core.limits.live import LiveCounter, listed
from tamarack.core.limits.store import Asked, Limiter, Taken
from tamarack.core.limits.stretch import Stretch
from tamarack.core.limits.window import Window

_Counts = FixedCounts | SlidingCounts | BucketCounts | StretchCounts
A_PAGE = 500
"""Keys that a search of the live counters looks at in one go."""
_LONG_PAST_S = 70 * 86_400
"""Seconds after which a stretch of a quota has ended, whatever it is."""


class MemoryCounters:
    """A `CounterStore` for one process."""

    def __init__(self) -> None:
        self._windows: dict[tuple[str, int, str], _Counts] = {}
        self._stretches: dict[str, dict[str, tuple[int, int]]] = {}
        self._bound: dict[str, Limiter] = {}

    def bind(self, limiter: Limiter) -> None:
        limiter.state = tuple(self._counts(limiter.id, window) for window in limiter.windows)
        if not limiter.is_quota:
            self._bound[limiter.id] = limiter

    @contextmanager
    def anew(self) -> Iterator[None]:
        """While a configuration is put together: limits that it does not bind are forgotten, unless that fails."""
        before, self._bound = self._bound, {}
        try:
            yield
        except BaseException:
            self._bound = before
            raise
        gone = before.keys() - self._bound.keys()
        for key in [key for key in self._windows if key[0] in gone]:
            del self._windows[key]

    def restore(self, id: str, key: str, start: int, used: int) -> None:
        """Take up what was counted in a quota's stretch before this process began."""
        by_key = self._stretches.setdefault(id, {})
        began, before = by_key.get(key, (0, 0))
        if start >= began:
            by_key[key] = (start, used + (before if start == began else 0))

    def _counts(self, id: str, window: Window | Stretch) -> _Counts:
        if isinstance(window, Stretch):
            by_key = self._stretches.setdefault(id, {})
            for gone in [key for key, (start, _) in by_key.items() if start < window.start - _LONG_PAST_S]:
                del by_key[gone]
            return StretchCounts(window, by_key)
        key = (id, window.seconds, window.algorithm)
        counts = self._windows.get(key)
        if counts is None:
            counts = self._windows[key] = counts_for(window)
        else:
            counts.follow(window)  # type: ignore[union-attr]
        return counts

    def take(self, asked: Asked, now: float) -> Taken:
        if len(asked) == 1:
            limiter, key, cost = asked[0]
            bound: tuple[_Counts, ...] = limiter.state  # type: ignore[assignment]
            counts = bound[0]
            if cost == 1 and type(counts) is FixedCounts and len(bound) == 1:
                return counts.take_one(limiter, key, now)
        now_us = int(now * 1_000_000)
        tightest: Window | Stretch | None = None
        chosen = asked[0][0]
        over: Limiter | None = None
        tokens: Taken | None = None
        least = wait = 0
        for limiter, key, cost in asked:
            for counts in limiter.state:  # type: ignore[attr-defined]
                left, wait_us = counts.look(key, now_us, cost or 1)
                if left < 0:
                    if type(counts) is not StretchCounts or not counts.window.soft:
                        return Taken(False, limiter, counts.window, 0, wait_us)
                    over, left = limiter, 0
                elif not cost:
                    left += 1
                if not limiter.counts_calls:
                    if tokens is None or left < tokens.left:
                        tokens = Taken(True, limiter, counts.window, left, wait_us)
                elif tightest is None or left < least:
                    tightest, least, chosen, wait = counts.window, left, limiter, wait_us
        for limiter, key, cost in asked:
            if cost:
                for counts in limiter.state:  # type: ignore[attr-defined]
                    counts.put(key, now_us, cost)
        if tightest is not None:
            return Taken(True, chosen, tightest, least, wait, over, tokens)
        assert tokens is not None
        tokens.over = over
        return tokens

    def add(self, asked: Asked, now: float, came: float = 0.0) -> None:
        now_us = int(now * 1_000_000)
        came_us = int((came or now) * 1_000_000)
        for limiter, key, cost in asked:
            for counts in limiter.state:  # type: ignore[attr-defined]
                if cost < 0:
                    counts.back(key, came_us, -cost)
                else:
                    counts.look(key, now_us, cost)
                    counts.put(key, now_us, cost)

    def live(self, search: str, now: float, most: int) -> list[LiveCounter]:
        """What is being counted now, of the limiters bound last under their ids. Quotas are kept elsewhere too."""
        return listed((one for page in self.live_pages(search, now) for one in page), most)

    def live_pages(self, search: str, now: float) -> Iterator[list[LiveCounter]]:
        """The same, unordered, `A_PAGE` keys at a time, so that whoever asks can let calls have their turn between."""
        now_us = int(now * 1_000_000)
        for limiter in list(self._bound.values()):
            for counts in limiter.state:  # type: ignore[attr-defined]
                keys = list(counts.keys())
                for start in range(0, len(keys), A_PAGE):
                    yield [
                        LiveCounter.of(limiter, counts.window, key, *counts.look(key, now_us, 0))
                        for key in keys[start : start + A_PAGE]
                        if search in key or search in limiter.id
                    ]

    def limiters(self) -> dict[str, Limiter]:
        """The limiters bound last, by their ids, without quotas."""
        return dict(self._bound)

    def clear(self, id: str, key: str) -> None:
        """Forget what was counted for a key of a limiter."""
        limiter = self._bound.get(id)
        for counts in limiter.state if limiter is not None else ():  # type: ignore[attr-defined]
            counts.clear(key)
