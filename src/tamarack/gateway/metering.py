"""Metering on a node: the decision over a call's limits, and the lines of calls that wait for their turn."""

import asyncio
from time import time
from typing import TypeGuard

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.metering import Meter
from tamarack.core.carrying.refusals import Refusal
from tamarack.core.limits.line import Line
from tamarack.core.limits.memory import MemoryCounters
from tamarack.core.limits.store import Asked, Limiter, Taken
from tamarack.gateway.counters.shared import SharedCounting

MOST_HELD = 5_000
"""Calls that wait for their turn on one node, in all lines together."""


class _Held:
    """A call in a line."""

    __slots__ = ("turn",)

    def __init__(self) -> None:
        self.turn = asyncio.Event()


class Metering:
    """Decides over the limits of calls; in this node's memory, or with all nodes where `shared` is given."""

    def __init__(self, local: MemoryCounters, shared: SharedCounting | None = None) -> None:
        self.local = local
        self.shared = shared
        self._lines: dict[tuple[str, str], Line[_Held]] = {}
        self._held = 0
        self._charging: set[asyncio.Task[None]] = set()

    async def decide(self, meter: Meter, call: Call) -> Taken | Refusal | None:
        """Count a call, hold it until its turn comes, or refuse it; None where it is let through uncounted."""
        if meter.smooth:
            return await self._in_turn(call)
        return await self._take(call.asked, call.now)

    async def _take(self, asked: Asked, now: float) -> Taken | Refusal | None:
        if self.shared is None:
            return self.local.take(asked, now)
        return await self.shared.take(asked, now)

    def charge(self, owed: Asked, came: float) -> None:
        """Count what calls cost beyond what was known when they came, and take back what they did not use of what they
        reserved then. Nothing waits for it."""
        now = time()
        if self.shared is None:
            self.local.add(owed, now, came)
        else:
            task = asyncio.create_task(self.shared.add(owed, now, came))
            self._charging.add(task)
            task.add_done_callback(self._charging.discard)

    @property
    def counting(self) -> str:
        """How this node counts: `by itself`, `with all nodes`, or `by itself meanwhile` (the shared store is away)."""
        if self.shared is None:
            return "by itself"
        return "by itself meanwhile" if self.shared.away_since else "with all nodes"

    def held(self) -> dict[tuple[str, str], int]:
        """How many calls wait now, by the limiter's id and the key."""
        return {place: len(line) for place, line in self._lines.items()}

    async def _in_turn(self, call: Call) -> Taken | Refusal | None:
        """Decide over a call that may wait. Those that came before and wait go first."""
        came = time()
        asked = call.asked
        waiting = next((one for one in asked if one[0].hold_us and (one[0].id, one[1]) in self._lines), None)
        wait_us = 0
        if waiting is None:
            taken = await self._take(asked, call.now)
            if not _has_to_wait(taken) or taken.wait_us > taken.limiter.hold_us:
                return taken
            waiting = next(one for one in asked if one[0] is taken.limiter)
            wait_us = taken.wait_us
        limiter, key, _ = waiting
        place = (limiter.id, key)
        line = self._lines.setdefault(place, Line())
        held = _Held()
        if self._held >= MOST_HELD or not line.join(held, limiter.queue):
            if not line:
                del self._lines[place]
            return _no_room(limiter)
        self._held += 1
        call.held_by = limiter.name
        try:
            return await self._wait(call, limiter, line, held, came, wait_us)
        finally:
            self._held -= 1
            call.held_us = int((time() - came) * 1_000_000)
            line.leave(held)
            first = line.first
            if first is not None:
                first.turn.set()
            elif self._lines.get(place) is line:
                del self._lines[place]

    async def _wait(
        self, call: Call, limiter: Limiter, line: Line[_Held], held: _Held, came: float, wait_us: int
    ) -> Taken | Refusal | None:
        until = came + limiter.hold_us / 1_000_000
        if line.first is not held:
            try:
                async with asyncio.timeout(max(0.0, until - time())):
                    await held.turn.wait()
            except TimeoutError:
                return _no_room(limiter)
        while True:
            if wait_us:
                await asyncio.sleep(wait_us / 1_000_000)
            call.counted_at = time()
            taken = await self._take(call.asked, call.counted_at)
            if not _has_to_wait(taken):
                return taken
            wait_us = taken.wait_us
            if time() + wait_us / 1_000_000 > until:
                return taken


def _has_to_wait(taken: Taken | Refusal | None) -> TypeGuard[Taken]:
    """Whether a decision is a refusal by a limit that lets calls wait."""
    return type(taken) is Taken and not taken.admitted and bool(taken.limiter.hold_us)


def _no_room(limiter: Limiter) -> Taken:
    """Refused since the line is full, or moves too slowly: nobody can say when there is room, so try after a hold."""
    return Taken(False, limiter, limiter.windows[0], 0, limiter.hold_us)
