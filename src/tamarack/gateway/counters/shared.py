"""Metering with counters that all nodes share, and what happens while their store is away.

The first call that waits too long for the store makes it count as away for all; from then on no call asks it,
until it answers again. Meanwhile each policy does what it says: count on the node, admit, or refuse.
"""

import asyncio
from collections.abc import Callable
from time import time

from tamarack.core.call import Call
from tamarack.core.limits.memory import MemoryCounters
from tamarack.core.limits.store import Limiter, SharedCounterStore, StoreAway
from tamarack.core.metering import Asked, Meter
from tamarack.core.refusals import REASONS, Refusal

LOOK_EVERY_S = 0.5

Log = Callable[[str], None]


class SharedMetering:
    """Decides over limits at the shared store, else as each policy says. `local` counts while it is away."""

    def __init__(self, store: SharedCounterStore, local: MemoryCounters, log: Log) -> None:
        self._store = store
        self._local = local
        self._log = log
        self._back = asyncio.Event()
        self.away_since = 0.0
        self.switched = 0
        """How often the store went away."""
        self.without = 0
        """Calls decided without it."""

    async def decide(self, meter: Meter, call: Call) -> Refusal | None:
        """Count a call, or refuse it."""
        asked = meter.asked(call)
        if not asked:
            return None
        if not self.away_since:
            try:
                taken = await self._store.take(asked, call.now, meter.cost)
            except StoreAway as error:
                self._went_away(str(error))
            else:
                return meter.settle(call, taken)
        self.without += 1
        return self._alone(meter, call, asked)

    def _alone(self, meter: Meter, call: Call, asked: Asked) -> Refusal | None:
        refusing = next((limiter for limiter, _ in asked if limiter.when_away == "refuse"), None)
        if refusing is not None:
            note = "its counters are away, and it says to refuse then"
            return Refusal(REASONS["not-metered"], ((b"retry-after", b"1"),), refusing.name, note)
        counted: list[tuple[Limiter, str]] = [pair for pair in asked if pair[0].when_away == "count on the node"]
        return meter.settle(call, self._local.take(counted, call.now, meter.cost)) if counted else None

    def _went_away(self, why: str) -> None:
        if not self.away_since:
            self.away_since = time()
            self.switched += 1
            self._log(f"the shared counters are away, limits do as each says meanwhile: {why}")
            self._back.set()

    async def run(self) -> None:
        """Watch for the store's return, until cancelled."""
        while True:
            await self._back.wait()
            await asyncio.sleep(LOOK_EVERY_S)
            if await self._store.answers():
                lasted, self.away_since = time() - self.away_since, 0.0
                self._back.clear()
                self._log(f"the shared counters are back after {lasted:.1f} s")
