"""How calls are counted: fixed windows, sliding windows, token buckets; each for every key of one window.

All are exact in whole numbers: times are microseconds since the epoch, and a bucket's level is kept in
microseconds times calls. A clock that goes backwards stands still for a key until it has caught up.

`look` tells what would be left after a call of some cost (negative: it is refused) and the seconds that go
with it: until it would be admitted where it is refused, until all of the quota is back where it is not.
`put` counts the call that was looked at last, at the same time; nothing comes between the two.
"""

from __future__ import annotations

from typing import Generic, Protocol, TypeVar

from tamarack.core.limits.window import Window

SLICES = 32
"""Parts of a sliding window. A call counts from when it comes until the part it came in is a whole window past."""
_MICRO = 1_000_000
LEAST_LIFE_US = 10 * _MICRO

S = TypeVar("S")


def _seconds(microseconds: int) -> int:
    """Whole seconds, rounded up, at least one."""
    return max(1, -(-microseconds // _MICRO))


class Counts(Protocol):
    """The counts of one window, by key."""

    window: Window

    def look(self, key: str, now_us: int, cost: int) -> tuple[int, int]:
        """What would be left, and seconds; see the module."""
        ...

    def put(self, key: str, now_us: int, cost: int) -> None:
        """Count it."""
        ...


class _Generations(Generic[S]):
    """Values by key that are forgotten when they were not used for some time, without looking at each."""

    __slots__ = ("_life", "_old", "_turned", "_young")

    def __init__(self, life_us: int) -> None:
        self._life = max(LEAST_LIFE_US, life_us)
        self._turned = 0
        self._young: dict[str, S] = {}
        self._old: dict[str, S] = {}

    def __len__(self) -> int:
        return len(self._young) + len(self._old)

    def get(self, key: str, now_us: int) -> S | None:
        if now_us - self._turned > self._life:
            self._old = self._young if now_us - self._turned <= 2 * self._life else {}
            self._young = {}
            self._turned = now_us
        found = self._young.get(key)
        if found is None and self._old:
            found = self._old.pop(key, None)
            if found is not None:
                self._young[key] = found
        return found

    def set(self, key: str, value: S) -> None:
        self._young[key] = value


class FixedCounts:
    """At most so many in each stretch aligned to the epoch. A new stretch forgets all keys at once."""

    __slots__ = ("by_key", "limit", "seconds", "started", "window")

    def __init__(self, window: Window) -> None:
        self.window = window
        self.limit = window.limit
        self.seconds = window.seconds
        self.started = -1
        self.by_key: dict[str, int] = {}

    def follow(self, window: Window) -> None:
        """Go on counting under a changed limit."""
        self.window, self.limit = window, window.limit

    def look(self, key: str, now_us: int, cost: int) -> tuple[int, int]:
        whole = now_us // _MICRO
        started = whole - whole % self.seconds
        if started > self.started:
            self.started = started
            self.by_key = {}
        left = self.limit - self.by_key.get(key, 0) - cost
        return left, max(1, self.started + self.seconds - whole)

    def put(self, key: str, now_us: int, cost: int) -> None:
        self.by_key[key] = self.by_key.get(key, 0) + cost


class SlidingCounts:
    """At most so many in any stretch of the window's length.

    Calls are counted by the part of the window they came in (`SLICES` of them); a part leaves the count when
    all of it is a whole window past. So no stretch ever lets more through, and a call counts for at most one
    part longer than the window.
    """

    __slots__ = ("_states", "_width", "limit", "window")

    def __init__(self, window: Window) -> None:
        self.window = window
        self.limit = window.limit
        self._width = window.seconds * _MICRO // SLICES
        self._states: _Generations[dict[int, int]] = _Generations(window.seconds * _MICRO + self._width)

    def follow(self, window: Window) -> None:
        """Go on counting under a changed limit."""
        self.window, self.limit = window, window.limit

    def _slices(self, key: str, now_us: int) -> tuple[int, dict[int, int]]:
        current = now_us // self._width
        slices = self._states.get(key, now_us)
        if not slices:
            return current, {}
        current = max(current, next(reversed(slices)))
        while slices:
            first = next(iter(slices))
            if first >= current - SLICES:
                break
            del slices[first]
        return current, slices

    def look(self, key: str, now_us: int, cost: int) -> tuple[int, int]:
        current, slices = self._slices(key, now_us)
        left = self.limit - sum(slices.values()) - cost
        if left >= 0:
            return left, _seconds((current + SLICES + 1) * self._width - now_us)
        wanted, freed, last = -left, 0, current
        for part, many in slices.items():
            freed += many
            last = part
            if freed >= wanted:
                break
        return left, _seconds((last + SLICES + 1) * self._width - now_us)

    def put(self, key: str, now_us: int, cost: int) -> None:
        current, slices = self._slices(key, now_us)
        slices[current] = slices.get(current, 0) + cost
        self._states.set(key, slices)


class BucketCounts:
    """A token bucket: `burst` calls at once, refilled at `limit` in `seconds`.

    What is kept is how far the bucket is from full (its debt), in microseconds times calls.
    """

    __slots__ = ("_each", "_states", "_whole", "limit", "window")

    def __init__(self, window: Window) -> None:
        self._states: _Generations[tuple[int, int]] = _Generations(window.period * _MICRO)
        self.follow(window)

    def follow(self, window: Window) -> None:
        """Go on counting under a changed rate and burst."""
        self.window, self.limit = window, window.limit
        self._each = window.seconds * _MICRO
        self._whole = window.burst * self._each

    def _debt(self, key: str, now_us: int) -> tuple[int, int]:
        state = self._states.get(key, now_us)
        if state is None:
            return now_us, 0
        last, debt = state
        now_us = max(last, now_us)
        return now_us, max(0, debt - (now_us - last) * self.limit)

    def look(self, key: str, now_us: int, cost: int) -> tuple[int, int]:
        _, debt = self._debt(key, now_us)
        after = debt + cost * self._each
        over = after - self._whole
        if over > 0:
            return -over // self._each, _seconds(-(-over // self.limit))
        return -over // self._each, _seconds(-(-after // self.limit))

    def put(self, key: str, now_us: int, cost: int) -> None:
        now_us, debt = self._debt(key, now_us)
        self._states.set(key, (now_us, debt + cost * self._each))


def counts_for(window: Window) -> FixedCounts | SlidingCounts | BucketCounts:
    """Fresh counts for a window, by its algorithm."""
    match window.algorithm:
        case "sliding":
            return SlidingCounts(window)
        case "bucket":
            return BucketCounts(window)
        case _:
            return FixedCounts(window)
