"""The answers that a node keeps, and who waits: while one call asks the backend, others wait for its answer."""

from __future__ import annotations

import asyncio
from typing import Any

from tamarack.core.caching.kept import Kept
from tamarack.core.caching.memory import Listed, MemoryCache
from tamarack.core.carrying.caching import Lookup
from tamarack.core.carrying.needs import Refresh
from tamarack.gateway.caches.redis_cache import RedisCache
from tamarack.gateway.caches.refreshing import AsksAnew, Refreshing

MOST_WAITING = 10_000
"""Calls that wait for one answer; those that come then ask the backend themselves."""
MOST_REFRESHING = 256
"""Answers that are asked for anew at a time, beside calls."""


class NodeCaches:
    """A `core.carrying.caching.CacheStore` in a node's memory, with a shared one beside it for policies that say so."""

    def __init__(self, memory: MemoryCache, shared: RedisCache | None = None) -> None:
        self.memory = memory
        self.shared = shared
        self._leading: dict[bytes, list[asyncio.Future[Kept | None]]] = {}
        """For each key that is being asked for: the calls that wait for it."""
        self.refreshing = 0

    # a call looks

    def look(self, lookup: Lookup, now: float) -> Any:
        """What is kept, where that is known at once; else a coroutine that finds out."""
        if lookup.cache.shared and self.shared is not None:
            return self._look_far(lookup, self.shared, now)
        kept = self.memory.get(lookup.key)
        if kept is None and lookup.question is not None:
            kept = lookup.cache.nearest(lookup, self.memory, now)
            if kept is not None:
                return kept
        return self._decide(lookup, kept, now)

    async def _look_far(self, lookup: Lookup, shared: RedisCache, now: float) -> Kept | None:
        kept = await shared.get(lookup.key, now)
        found = self._decide(lookup, kept, now)
        answer: Kept | None = await found if asyncio.iscoroutine(found) else found
        return answer

    def _decide(self, lookup: Lookup, kept: Kept | None, now: float) -> Any:
        """Kept answers that can be given are; else one call leads, and the others wait for it."""
        lookup.kept = kept
        says = lookup.says(kept, now)
        if says == "hit" or lookup.alone:
            return kept
        waiting = self._leading.get(lookup.key)
        if waiting is None:
            self._leading[lookup.key] = []
            lookup.leads = True
            return kept
        if says == "stale" or lookup.cache.wait_s <= 0 or len(waiting) >= MOST_WAITING:
            return kept
        return self._wait(lookup, waiting, kept)

    async def _wait(self, lookup: Lookup, waiting: list[asyncio.Future[Kept | None]], kept: Kept | None) -> Kept | None:
        """Wait for the answer that another call is asking for, for a bounded time."""
        coming: asyncio.Future[Kept | None] = asyncio.get_running_loop().create_future()
        waiting.append(coming)
        lookup.waited = True
        try:
            async with asyncio.timeout(lookup.cache.wait_s):
                found = await coming
        except TimeoutError:
            return kept
        finally:
            if coming in waiting:
                waiting.remove(coming)
        if found is _LEAD:
            lookup.leads = True
            return kept
        return found if found is not None else kept

    # what `CacheStore` says

    def keep(self, lookup: Lookup, kept: Kept) -> None:
        """See `CacheStore.keep`."""
        if lookup.cache.shared and self.shared is not None:
            self.shared.keep(kept)
        else:
            self.memory.keep(kept)
        self._answer(lookup, kept)

    def release(self, lookup: Lookup) -> None:
        """See `CacheStore.release`."""
        self._answer(lookup, None)

    def stand_in(self, lookup: Lookup, kept: Kept) -> None:
        """See `CacheStore.stand_in`."""
        self._answer(lookup, kept)

    def drop(self, lookup: Lookup) -> None:
        """See `CacheStore.drop`."""
        if lookup.cache.shared and self.shared is not None:
            self.shared.drop(lookup.key)
        else:
            self.memory.drop(lookup.key)

    def invalidate(self, path: bytes, shared: bool) -> None:
        """See `CacheStore.invalidate`."""
        if shared and self.shared is not None:
            self.shared.invalidate(path)
        else:
            self.memory.invalidate(path)

    def _answer(self, lookup: Lookup, kept: Kept | None) -> None:
        if not lookup.leads:
            return
        lookup.leads = False
        for coming in self._leading.pop(lookup.key, ()):
            if not coming.done():
                coming.set_result(kept)

    def ended(self, lookup: Lookup) -> None:
        """A call has ended. Where it led and its answer never came, the next in line leads."""
        if not lookup.leads:
            return
        lookup.leads = False
        waiting = self._leading.get(lookup.key)
        while waiting:
            coming = waiting.pop(0)
            if not coming.done():
                coming.set_result(_LEAD)
                return
        self._leading.pop(lookup.key, None)

    # what people ask for

    async def purge(self, policy: str, prefix: str, exact: bool, before: float) -> None:
        """Forget what a policy kept before a moment: all, the keys that begin with `prefix`, or that are it."""
        self.memory.purge(policy, prefix, exact, before)
        if self.shared is not None:
            await self.shared.purge(policy, prefix, exact, before)

    async def listed(self, policy: str, search: str, now: float, most: int) -> tuple[list[Listed], int, int]:
        """What a policy keeps, by hits; how many answers that are, and their bytes."""
        found = self.memory.listed(policy, search, now, most)
        many, size = self.memory.totals(policy)
        if self.shared is not None:
            far, far_many, far_size = await self.shared.listed(policy, search, now, most)
            found = sorted([*found, *far], key=lambda one: -one.hits)[:most]
            many, size = many + far_many, size + far_size
        return found, many, size

    # asking anew, beside a call

    def refresh(self, gateway: AsksAnew, need: Refresh, now: float) -> None:
        """Ask the backend for what was given though it is over."""
        if self.refreshing >= MOST_REFRESHING:
            return  # the next call that finds it over tries again
        need.lookup.leads = False  # the call's own end must not end this
        refreshing = Refreshing(gateway, need, now)
        try:
            refreshing.start()
        except Exception as error:
            gateway.log_error(need.call, error)
            refreshing.give_up()


_LEAD: Any = object()
"""The call that led is gone: who is told so leads now."""
