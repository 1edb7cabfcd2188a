"""Counting with counters that all nodes share, and what happens while their store is away.

The first call that waits too long for the store makes it count as away for all; from then on no call asks it,
until it answers again. Meanwhile each policy does what it says: count on the node, admit, or refuse. What was
counted on the node against quotas is added to the shared count when the store is back.
"""

import asyncio
from collections.abc import Callable
from time import time

from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.limits.memory import MemoryCounters
from tamarack.core.limits.store import Asked, Limiter, SharedCounterStore, StoreAway, Taken

LOOK_EVERY_S = 0.5

Log = Callable[[str], None]


class SharedCounting:
    """Decides over limits at the shared store, else as each policy says. `local` counts while it is away."""

    def __init__(self, store: SharedCounterStore, local: MemoryCounters, log: Log) -> None:
        self.store = store
        self._local = local
        self._log = log
        self._back = asyncio.Event()
        self._owed: dict[tuple[str, str, int], tuple[Limiter, int]] = {}
        self.away_since = 0.0
        self.switched = 0
        """How often the store went away."""
        self.without = 0
        """Calls decided without it."""

    async def take(self, asked: Asked, now: float) -> Taken | Refusal | None:
        """Count a call or refuse it; None where it is let through without being counted."""
        if not self.away_since:
            try:
                return await self.store.take(asked, now)
            except StoreAway as error:
                self._went_away(str(error))
        self.without += 1
        return self._alone(asked, now)

    async def add(self, asked: Asked, now: float, came: float = 0.0) -> None:
        """Count what was known only afterwards."""
        if not self.away_since:
            try:
                await self.store.add(asked, now, came)
            except StoreAway as error:
                self._went_away(str(error))
            else:
                return
        self._local.add(asked, now, came)
        self._owe(asked)

    def _alone(self, asked: Asked, now: float) -> Taken | Refusal | None:
        refusing = next((limiter for limiter, _, _ in asked if limiter.when_away == "refuse"), None)
        if refusing is not None:
            note = "its counters are away, and it says to refuse then"
            return Refusal(REASONS["not-metered"], ((b"retry-after", b"1"),), refusing.name, note)
        counted = [one for one in asked if one[0].when_away == "count on the node"]
        if not counted:
            return None
        taken = self._local.take(counted, now)
        if taken.admitted:
            self._owe(asked)
        return taken

    def _owe(self, asked: Asked) -> None:
        for limiter, key, cost in asked:
            if limiter.is_quota and cost:
                place = (limiter.id, key, limiter.windows[0].start)  # type: ignore[union-attr]
                self._owed[place] = (limiter, self._owed.get(place, (limiter, 0))[1] + cost)

    def _went_away(self, why: str) -> None:
        if not self.away_since:
            self.away_since = time()
            self.switched += 1
            self._log(f"the shared counters are away, limits do as each says meanwhile: {why}")
            self._back.set()

    async def _pay(self) -> None:
        """Add what is owed to the shared count, each once: what was not taken stays owed. Raises `StoreAway`."""
        for place in list(self._owed):
            limiter, cost = self._owed.pop(place)
            try:
                await self.store.add([(limiter, place[1], cost)], time())
            except BaseException:
                _, since = self._owed.get(place, (limiter, 0))
                self._owed[place] = (limiter, cost + since)
                raise

    async def run(self) -> None:
        """Watch for the store's return, until cancelled."""
        while True:
            await self._back.wait()
            await asyncio.sleep(LOOK_EVERY_S)
            if await self.store.answers():
                lasted, self.away_since = time() - self.away_since, 0.0
                self._back.clear()
                self._log(f"the shared counters are back after {lasted:.1f} s; {self.without} calls went without them")
                try:
                    await self._pay()
                except StoreAway as error:
                    self._went_away(str(error))
