"""How calls are counted: fixed and sliding windows, token buckets, and stretches; each for every key of one window.

All are exact in whole numbers: times are microseconds since the epoch, and a bucket's level is kept in
microseconds times calls. A clock that goes backwards stands still for a key until it has caught up.

`look` tells what would be left after a call of some cost (negative: it is refused) and the microseconds that
go with it: until it would be admitted where it is refused, until all of the quota is back where it is not.
`put` counts the call that was looked at last, at the same time; nothing comes between the two. `back` takes back of
what was counted at an earlier moment, where that still counts, and never more than there is: what a call reserved and
did not use.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Final, Generic, Protocol, TypeVar

from tamarack.core.limits.store import Limiter, Taken
from tamarack.core.limits.stretch import Stretch
from tamarack.core.limits.window import Window

SLICES: Final = 32
"""Parts of a sliding window. A call counts from when it comes until the part it came in is a whole window past."""
_MICRO: Final = 1_000_000
LEAST_LIFE_US: Final = 10 * _MICRO

S = TypeVar("S")


class Counts(Protocol):
    """The counts of one window, by key."""

    @property
    def window(self) -> Window | Stretch:
        """What is counted in."""
        ...

    def look(self, key: str, now_us: int, cost: int) -> tuple[int, int]:
        """What would be left, and microseconds; see the module."""
        ...

    def put(self, key: str, now_us: int, cost: int) -> None:
        """Count it."""
        ...

    def back(self, key: str, at_us: int, many: int) -> None:
        """Take back of what was counted at a moment."""
        ...

    def keys(self) -> Iterator[str]:
        """The keys that are being counted, in no order; some may have run out."""
        ...

    def clear(self, key: str) -> None:
        """Forget what was counted for a key."""
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

    def __iter__(self) -> Iterator[str]:
        yield from self._young
        yield from (key for key in self._old if key not in self._young)

    def drop(self, key: str) -> None:
        self._young.pop(key, None)
        self._old.pop(key, None)


class FixedCounts:
    """At most so many in each stretch aligned to the epoch. A new stretch forgets all keys at once."""

    __slots__ = ("by_key", "limit", "seconds", "started", "window")

    def __init__(self, window: Window) -> None:
        self.window = window
        self.limit = window.limit
        self.seconds = window.seconds
        self.started = -(10**12)  # before all time
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
        return left, (self.started + self.seconds) * _MICRO - now_us

    def put(self, key: str, now_us: int, cost: int) -> None:
        self.by_key[key] = self.by_key.get(key, 0) + cost

    def back(self, key: str, at_us: int, many: int) -> None:
        if at_us >= self.started * _MICRO and key in self.by_key:
            self.by_key[key] = max(0, self.by_key[key] - many)

    def take_one(self, limiter: Limiter, key: str, now: float) -> Taken:
        """Decide over one call under this window alone: the commonest case, in one look."""
        seconds = self.seconds
        started = self.started
        if now - started >= seconds:  # else its stretch goes on; a clock that went back stands still
            whole = int(now)
            self.started = started = whole - whole % seconds
            self.by_key = {}
        by_key = self.by_key
        used = by_key.get(key, 0)
        wait_us = (started + seconds) * _MICRO - int(now * _MICRO)
        if used >= self.limit:
            return Taken(False, limiter, self.window, 0, wait_us)
        by_key[key] = used + 1
        return Taken(True, limiter, self.window, self.limit - used - 1, wait_us)

    def keys(self) -> Iterator[str]:
        return iter(self.by_key)

    def clear(self, key: str) -> None:
        self.by_key.pop(key, None)


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
            return left, (current + SLICES + 1) * self._width - now_us
        wanted, freed, last = -left, 0, current
        for part, many in slices.items():
            freed += many
            last = part
            if freed >= wanted:
                break
        return left, (last + SLICES + 1) * self._width - now_us

    def put(self, key: str, now_us: int, cost: int) -> None:
        current, slices = self._slices(key, now_us)
        slices[current] = slices.get(current, 0) + cost
        self._states.set(key, slices)

    def back(self, key: str, at_us: int, many: int) -> None:
        part = at_us // self._width
        slices = self._states.get(key, at_us)
        if slices and part in slices:
            slices[part] = max(0, slices[part] - many)

    def keys(self) -> Iterator[str]:
        return iter(self._states)

    def clear(self, key: str) -> None:
        self._states.drop(key)


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
            return -over // self._each, -(-over // self.limit)
        return -over // self._each, -(-after // self.limit)

    def level(self, key: str, now_us: int) -> float:
        """How full the bucket is, in calls."""
        return (self._whole - self._debt(key, now_us)[1]) / self._each

    def put(self, key: str, now_us: int, cost: int) -> None:
        now_us, debt = self._debt(key, now_us)
        self._states.set(key, (now_us, debt + cost * self._each))

    def back(self, key: str, at_us: int, many: int) -> None:
        state = self._states.get(key, at_us)
        if state is not None:
            self._states.set(key, (state[0], max(0, state[1] - many * self._each)))

    def keys(self) -> Iterator[str]:
        return iter(self._states)

    def clear(self, key: str) -> None:
        self._states.drop(key)


class StretchCounts:
    """At most so many in one stretch of a quota. What is counted is shared by all stretches of the quota.

    A key's count begins anew with the first call of a later stretch.
    """

    __slots__ = ("_by_key", "window")

    def __init__(self, window: Stretch, by_key: dict[str, tuple[int, int]]) -> None:
        self.window = window
        self._by_key = by_key

    def _used(self, key: str) -> int:
        started, used = self._by_key.get(key, (0, 0))
        return used if started >= self.window.start else 0

    def look(self, key: str, now_us: int, cost: int) -> tuple[int, int]:
        return self.window.limit - self._used(key) - cost, self.window.end * _MICRO - now_us

    def put(self, key: str, now_us: int, cost: int) -> None:
        started = max(self.window.start, self._by_key.get(key, (0, 0))[0])
        self._by_key[key] = (started, self._used(key) + cost)

    def back(self, key: str, at_us: int, many: int) -> None:
        started, used = self._by_key.get(key, (0, 0))
        if started == self.window.start:
            self._by_key[key] = (started, max(0, used - many))

    def keys(self) -> Iterator[str]:
        return iter(self._by_key)

    def clear(self, key: str) -> None:
        self._by_key.pop(key, None)


def counts_for(window: Window) -> FixedCounts | SlidingCounts | BucketCounts:
    """Fresh counts for a window, by its algorithm."""
    match window.algorithm:
        case "sliding":
            return SlidingCounts(window)
        case "bucket":
            return BucketCounts(window)
        case _:
            return FixedCounts(window)
