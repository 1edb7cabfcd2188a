"""Metering on a node: the decision over a call's limits, and the lines of calls that wait for their turn."""

import asyncio
from time import time

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.metering import Asked, Meter
from tamarack.core.carrying.refusals import Refusal
from tamarack.core.limits.line import Line
from tamarack.core.limits.memory import MemoryCounters
from tamarack.core.limits.store import Limiter, Taken
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

    async def decide(self, meter: Meter, call: Call) -> Refusal | None:
        """Count a call, hold it until its turn comes, or refuse it."""
        asked = meter.asked(call)
        if not asked:
            return None
        if meter.smooth:
            return await self._in_turn(meter, call, asked)
        taken = await self._take(asked, call.now, meter.cost)
        return self._settle(meter, call, asked, taken)

    async def _take(self, asked: Asked, now: float, cost: int) -> Taken | Refusal | None:
        if self.shared is None:
            return self.local.take(asked, now, cost)
        return await self.shared.take(asked, now, cost)

    def _settle(self, meter: Meter, call: Call, asked: Asked, taken: Taken | Refusal | None) -> Refusal | None:
        if type(taken) is Taken:
            return meter.settle(call, asked, taken)
        return taken  # type: ignore[return-value]

    def charge(self, meter: Meter, call: Call, more: int) -> None:
        """Count what a call cost beyond what was known when it came. Nothing waits for it."""
        asked = call.asked
        if not asked:
            return
        meter.note_more(asked, more)
        if self.shared is None:
            self.local.add(asked, call.now, more)
        else:
            task = asyncio.create_task(self.shared.add(asked, call.now, more))
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

    async def _in_turn(self, meter: Meter, call: Call, asked: Asked) -> Refusal | None:
        """Decide over a call that may wait. Those that came before and wait go first."""
        came = time()
        waiting = next((pair for pair in asked if pair[0].hold_us and (pair[0].id, pair[1]) in self._lines), None)
        wait_us = 0
        if waiting is None:
            taken = await self._take(asked, call.now, meter.cost)
            if type(taken) is not Taken or taken.admitted or not taken.limiter.hold_us:
                return self._settle(meter, call, asked, taken)
            if taken.wait_us > taken.limiter.hold_us:
                return meter.settle(call, asked, taken)
            waiting = next(pair for pair in asked if pair[0] is taken.limiter)
            wait_us = taken.wait_us
        limiter, key = waiting
        place = (limiter.id, key)
        line = self._lines.setdefault(place, Line())
        held = _Held()
        if self._held >= MOST_HELD or not line.join(held, limiter.queue):
            if not line:
                del self._lines[place]
            return meter.settle(call, asked, _no_room(limiter))
        self._held += 1
        call.held_by = limiter.name
        try:
            return await self._wait(meter, call, asked, limiter, line, held, came, wait_us)
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
        self,
        meter: Meter,
        call: Call,
        asked: Asked,
        limiter: Limiter,
        line: Line[_Held],
        held: _Held,
        came: float,
        wait_us: int,
    ) -> Refusal | None:
        until = came + limiter.hold_us / 1_000_000
        if line.first is not held:
            try:
                async with asyncio.timeout(max(0.0, until - time())):
                    await held.turn.wait()
            except TimeoutError:
                return meter.settle(call, asked, _no_room(limiter))
        while True:
            if wait_us:
                await asyncio.sleep(wait_us / 1_000_000)
            taken = await self._take(asked, time(), meter.cost)
            if type(taken) is not Taken or taken.admitted or not taken.limiter.hold_us:
                return self._settle(meter, call, asked, taken)
            wait_us = taken.wait_us
            if time() + wait_us / 1_000_000 > until:
                return meter.settle(call, asked, taken)


def _no_room(limiter: Limiter) -> Taken:
    """Refused since the line is full, or moves too slowly: nobody can say when there is room, so try after a hold."""
    return Taken(False, limiter, limiter.windows[0], 0, limiter.hold_us)
