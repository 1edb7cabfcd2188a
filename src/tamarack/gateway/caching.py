"""The answers that a node keeps, and who waits: while one call asks the backend, others wait for its answer."""

from __future__ import annotations

import asyncio
from typing import TYPE_CHECKING, Any

from tamarack.core.caching.kept import Kept
from tamarack.core.caching.memory import MemoryCache
from tamarack.core.carrying.caching import Lookup
from tamarack.core.carrying.forwarding import Passed, read_answer
from tamarack.core.carrying.needs import Failed, Refresh
from tamarack.core.carrying.parts import Answered

if TYPE_CHECKING:
    from tamarack.gateway.gateway import Gateway
    from tamarack.gateway.upstream.interface import Exchange

MOST_WAITING = 10_000
"""Calls that wait for one answer; those that come then ask the backend themselves."""
MOST_REFRESHING = 256
"""Answers that are asked for anew at a time, beside calls."""


class NodeCaches:
    """A `core.carrying.caching.CacheStore` in a node's memory, with a shared one beside it for policies that say so."""

    def __init__(self, memory: MemoryCache, shared: Any = None) -> None:
        self.memory = memory
        self.shared = shared
        self._leading: dict[bytes, list[asyncio.Future[Kept | None]]] = {}
        """For each key that is being asked for: the calls that wait for it."""
        self.refreshing = 0

    # a call looks

    def look(self, lookup: Lookup, now: float) -> Any:
        """What is kept, where that is known at once; else a coroutine that finds out."""
        if lookup.cache.shared and self.shared is not None and self.shared.answers:
            return self._look_far(lookup, now)
        return self._decide(lookup, self.memory.get(lookup.key), now)

    async def _look_far(self, lookup: Lookup, now: float) -> Kept | None:
        kept = await self.shared.get(lookup.key)
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

    # asking anew, beside a call

    def refresh(self, gateway: Gateway, need: Refresh, now: float) -> None:
        """Ask the backend for what was given though it is over."""
        if self.refreshing >= MOST_REFRESHING:
            return  # the next call that finds it over tries again
        need.lookup.leads = False  # the call's own end must not end this
        Refreshing(gateway, need, now).start()


_LEAD: Any = object()
"""The call that led is gone: who is told so leads now."""


class Refreshing:
    """A `Listener` that takes an answer anew and keeps it."""

    def __init__(self, gateway: Gateway, need: Refresh, now: float) -> None:
        self.gateway = gateway
        self.lookup = need.lookup
        self.need = need
        self.trial = False
        self.asked_at = now
        self._exchange: Exchange | None = None
        self._answer: Answered | None = None
        self._pieces: list[bytes] = []
        self._size = 0

    def start(self) -> None:
        """Send the request."""
        self.gateway.caches.refreshing += 1
        state = self.need.choice.state
        if state is not None:
            self.trial = state.went()
        exchange = self.gateway.upstream.ask(self.need.ask, self)
        if isinstance(exchange, Failed):
            self.failed(exchange)
        else:
            self._exchange = exchange

    def moved(self, exchange: Exchange) -> None:
        """See `Listener.moved`."""
        self._exchange = exchange

    def drained(self) -> None:
        """See `Listener.drained`."""

    def answered(self, answer: Answered) -> None:
        """See `Listener.answered`."""
        self._answer = answer
        self._noted("answered", answer.status, "")
        if answer.status >= 500:
            self._over(False)
        elif answer.status == 304 or answer.body is not None:
            self._pieces = [answer.body or b""]
            self._over(True)

    def piece(self, data: bytes) -> None:
        """See `Listener.piece`."""
        self._size += len(data)
        self._pieces.append(data)
        if self._size > self.lookup.cache.rules.at_most:
            self._over(False)

    def ended(self) -> None:
        """See `Listener.ended`."""
        self._over(True)

    def failed(self, failure: Failed) -> None:
        """See `Listener.failed`."""
        if self._answer is None:
            self._noted(failure.failure, 0, failure.step)
        self._over(False)

    def _noted(self, outcome: str, status: int, what: str) -> None:
        """Tell what chose the target what became of it."""
        self.need.route.noted(self.need.choice, outcome)
        state = self.need.choice.state
        if state is not None:
            state.under_way -= 1
            if outcome == "busy":
                state.left(self.trial)
            else:
                state.noted(self.gateway.now(), status, what, self.trial)

    def _over(self, complete: bool) -> None:
        exchange, self._exchange = self._exchange, None
        if exchange is not None:
            exchange.close()
        caches, lookup, answer = self.gateway.caches, self.lookup, self._answer
        caches.refreshing -= 1
        lookup.leads = True  # so that what comes of it reaches those who wait
        try:
            if complete and answer is not None:
                passed = Passed(answer.status, None)
                read_answer(passed, self.need.call, self.need.choice.target, answer.headers)
                body = b"".join(self._pieces)
                lookup.cache.refreshed(
                    self.need.call, lookup, answer, passed.fields, body, self.asked_at, self.gateway.now()
                )
        except Exception as error:
            self.gateway.log_error(self.need.call, error)
        finally:
            caches.release(lookup)
