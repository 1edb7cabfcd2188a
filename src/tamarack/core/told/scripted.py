"""A driver that answers a program's needs from a script, on a clock of its own: no network, no waiting.

Tests, "would it pass?", explanations and rehearsals run the node's own programs on it.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from tamarack.core.caching.kept import Kept
from tamarack.core.caching.memory import MemoryCache
from tamarack.core.carrying.caching import Lookup
from tamarack.core.carrying.call import Call
from tamarack.core.carrying.forwarding import Passed, read_answer
from tamarack.core.carrying.needs import (
    Ask,
    Failed,
    Hold,
    Look,
    Need,
    ReadAnswer,
    ReadBody,
    Refresh,
    Take,
)
from tamarack.core.carrying.parts import Reply
from tamarack.core.carrying.program import Operation, Outcome
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.http.heads import Answered
from tamarack.core.identity.lookups import FetchKeys, FindToken
from tamarack.core.limits.store import CounterStore, Taken

Backend = Callable[[Ask, bytes], tuple[Answered, tuple[bytes, ...]] | Failed]
"""Answers a request with its body: the head of an answer, and the pieces that its body comes in; or a failure."""


def nothing_there(ask: Ask, body: bytes) -> tuple[Answered, tuple[bytes, ...]]:
    """A backend that answers 204 to everything."""
    return Answered(204, [], b""), ()


class OnlyMemory:
    """A `core.carrying.caching.CacheStore` for calls that come one after another."""

    def __init__(self, memory: MemoryCache) -> None:
        self.memory = memory

    def keep(self, lookup: Lookup, kept: Kept) -> None:
        """See `CacheStore.keep`."""
        self.memory.keep(kept)

    def release(self, lookup: Lookup) -> None:
        """See `CacheStore.release`: nobody waits."""

    def stand_in(self, lookup: Lookup, kept: Kept) -> None:
        """See `CacheStore.stand_in`: nobody waits."""

    def drop(self, lookup: Lookup) -> None:
        """See `CacheStore.drop`."""
        self.memory.drop(lookup.key)

    def invalidate(self, path: bytes, shared: bool) -> None:
        """See `CacheStore.invalidate`."""
        self.memory.invalidate(path)


class ScriptedDriver:
    """Runs calls to their end. `counters` decide over limits; `body` is what the caller sends.

    Kept answers are taken from `cache`.

    `fetch` is asked for key sets, by address and key id, and says whether it fetched one; `find` for opaque tokens.
    """

    def __init__(
        self,
        counters: CounterStore,
        backend: Backend = nothing_there,
        fetch: Callable[[str, str], bool] = lambda url, kid: False,
        cache: MemoryCache | None = None,
        find: Callable[[bytes], bool] = lambda token: False,
    ) -> None:
        self._counters = counters
        self._backend = backend
        self._fetch = fetch
        self._find = find
        self.cache = cache if cache is not None else MemoryCache(10_000_000)
        self._pieces: tuple[bytes, ...] = ()
        self.sent = b""
        """What went to the caller of the last answer's body."""

    def carry(self, call: Call, operation: Operation, body: bytes = b"") -> Refusal | Reply | Passed:
        """Run one call to its end, and count what its answer told. Returns how it ended."""
        call.operation = operation
        self._pieces = ()
        self.sent = b""
        program = operation.run(call)
        answer: Any = None
        while True:
            need = program.send(answer)
            if isinstance(need, Outcome):
                return self._ended(call, operation, need)
            answer = self._answer(need, call, body)

    def _answer(self, need: Need, call: Call, body: bytes) -> Any:
        match need:
            case ReadBody():
                if len(body) > call.operation.body_limit:  # type: ignore[union-attr]
                    return Refusal(REASONS["too-large"])
                return body if len(body) <= need.at_most else None
            case FetchKeys():
                return self._fetch(need.url, need.kid)
            case FindToken():
                return self._find(need.token)
            case Take():
                return self._take(call)
            case ReadAnswer():
                whole = b"".join(self._pieces)
                if len(whole) > need.at_most:
                    return None
                self._pieces = ()
                return whole
            case Hold():
                return None
            case Look():
                found = self.cache.get(need.lookup.key)
                return found if found is not None else need.lookup.cache.nearest(need.lookup, self.cache, call.now)
            case Refresh():
                self._refresh(need, body)
                return None
            case Ask():
                if need.body is None and len(body) > call.operation.body_limit:  # type: ignore[union-attr]
                    return Refusal(REASONS["too-large"])
                answered = self._backend(need, body if need.body is None else need.body)
                if isinstance(answered, Failed):
                    return answered
                head, self._pieces = answered
                return head

    def _refresh(self, need: Refresh, body: bytes) -> None:
        """Ask anew for what was given though it is over."""
        answered = self._backend(need.ask, body if need.ask.body is None else need.ask.body)
        if isinstance(answered, Failed):
            return
        answer, pieces = answered
        call, now = need.call, need.call.now
        passed = Passed(answer.status, None)
        read_answer(passed, call, need.choice.target, answer.headers)
        whole = answer.body if answer.body is not None else b"".join(pieces)
        need.lookup.cache.refreshed(call, need.lookup, answer, passed.fields, whole, now, now)

    def _take(self, call: Call) -> Taken:
        """Decide over limits; where one lets calls wait, the clock goes on until the call's turn has come."""
        now = call.now
        while True:
            taken = self._counters.take(call.asked, now)
            held_us = round((now - call.now) * 1_000_000)
            if taken.admitted or held_us + taken.wait_us > taken.limiter.hold_us:
                call.held_us = held_us
                call.counted_at = now
                return taken
            call.held_by = taken.limiter.name
            now += taken.wait_us / 1_000_000

    def _ended(self, call: Call, operation: Operation, outcome: Refusal | Reply | Passed) -> Refusal | Reply | Passed:
        if isinstance(outcome, Refusal):
            call.status, call.reason = outcome.status or outcome.reason.status, outcome.reason.code
        else:
            call.status = outcome.status
        if isinstance(outcome, Passed):
            pieces = self._pieces if outcome.body is None else (outcome.body,)
            for piece in pieces:
                for one in call.watching:
                    one.piece(piece)
            self.sent = b"".join(pieces)
            if outcome.filter is not None:
                self.sent = b"".join(map(outcome.filter.piece, pieces)) + outcome.filter.end()
        owed = operation.settled(call, isinstance(outcome, Passed))
        if owed:
            self._counters.add(owed, call.counted_at, call.counted_at)
        return outcome
