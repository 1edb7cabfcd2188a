"""What a limit does to calls as they come: the counters and lines of a node, run on a clock of its own."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from typing import Literal

from tamarack.core.limits.algorithms import BucketCounts
from tamarack.core.limits.line import Line
from tamarack.core.limits.memory import MemoryCounters
from tamarack.core.limits.store import Limiter, Taken
from tamarack.core.limits.window import Window

Outcome = Literal["admitted", "held", "refused"]
_KEY = "k"


@dataclass(frozen=True, slots=True)
class Arrived:
    """One call: when it came and was decided over (microseconds), and how. Held ones were admitted later."""

    at: int
    decided: int
    outcome: Outcome


@dataclass(slots=True)
class Simulated:
    """All calls in the order they came, and what was left of each window at the moments asked for."""

    calls: list[Arrived] = field(default_factory=list)
    levels: list[tuple[int, tuple[float, ...]]] = field(default_factory=list)
    """Moments, and how many calls each window would still have taken then."""

    def count(self, outcome: Outcome) -> int:
        """How many calls ended in a way."""
        return sum(1 for call in self.calls if call.outcome == outcome)

    @property
    def longest_held_us(self) -> int:
        """The longest that a call was held."""
        return max((call.decided - call.at for call in self.calls if call.outcome == "held"), default=0)


class _Waiting:
    __slots__ = ("at", "place", "try_at", "until")

    def __init__(self, place: int, at: int, until: int) -> None:
        self.place = place
        self.at = at
        self.until = until
        self.try_at = -1


class _Run:
    def __init__(self, windows: Sequence[Window], hold_us: int, queue: int) -> None:
        self.store = MemoryCounters()
        self.limiter = Limiter("simulated", "simulated", tuple(windows))
        self.store.bind(self.limiter)
        self.hold_us = hold_us
        self.queue = queue
        self.line: Line[_Waiting] = Line()
        self.ends: dict[int, Arrived] = {}

    def take(self, now: int) -> Taken:
        return self.store.take([(self.limiter, _KEY, 1)], now / 1_000_000)

    def arrive(self, place: int, at: int) -> None:
        """A call comes: it is decided over, or goes into the line."""
        wait = 0
        if not len(self.line):
            taken = self.take(at)
            if taken.admitted:
                self.ends[place] = Arrived(at, at, "admitted")
                return
            wait = taken.wait_us
        waiting = _Waiting(place, at, at + self.hold_us)
        if not self.hold_us or wait > self.hold_us or not self.line.join(waiting, self.queue):
            self.ends[place] = Arrived(at, at, "refused")
        elif wait:
            waiting.try_at = at + wait

    def until(self, now: int) -> None:
        """All that happens in the line up to a moment."""
        while True:
            first = self.line.first
            if first is None:
                return
            overdue = min((one for one in self.line if one is not first), key=lambda one: one.until, default=None)
            moment = first.try_at if first.try_at >= 0 else first.at
            if overdue is not None and overdue.until < moment:
                if overdue.until > now:
                    return
                self._leave(overdue, overdue.until, "refused")
                continue
            if moment > now:
                return
            taken = self.take(moment)
            if taken.admitted:
                self._leave(first, moment, "held")
            elif moment + taken.wait_us > first.until:
                self._leave(first, moment, "refused")
            else:
                first.try_at = moment + taken.wait_us

    def _leave(self, waiting: _Waiting, moment: int, outcome: Outcome) -> None:
        self.line.leave(waiting)
        self.ends[waiting.place] = Arrived(waiting.at, moment, outcome)
        first = self.line.first
        if first is not None and first.try_at < 0:
            first.try_at = moment

    def level(self, now: int) -> tuple[float, ...]:
        """What is left of each window."""
        found: list[float] = []
        for counts in self.limiter.state:  # type: ignore[attr-defined]
            if isinstance(counts, BucketCounts):
                found.append(counts.level(_KEY, now))
            else:
                found.append(float(counts.look(_KEY, now, 0)[0]))
        return tuple(found)


def simulate(
    windows: Sequence[Window],
    arrivals: Sequence[int],
    hold_ms: int = 0,
    queue: int = 0,
    look_at: Iterable[int] = (),
) -> Simulated:
    """What happens to calls that come at `arrivals` (microseconds, in order) under one limit of some windows.

    `look_at` are moments, in order, at which the levels are wanted.
    """
    run = _Run(windows, hold_ms * 1000, queue)
    looks = iter(look_at)
    look = next(looks, None)
    result = Simulated()
    for place, at in enumerate(arrivals):
        while look is not None and look < at:
            run.until(look)
            result.levels.append((look, run.level(look)))
            look = next(looks, None)
        run.until(at)
        run.arrive(place, at)
    while look is not None:
        run.until(look)
        result.levels.append((look, run.level(look)))
        look = next(looks, None)
    run.until(arrivals[-1] + 2 * run.hold_us if arrivals else 0)
    result.calls = [run.ends[place] for place in range(len(arrivals))]
    return result
