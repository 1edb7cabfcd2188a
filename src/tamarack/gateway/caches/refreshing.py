"""Asking anew, beside calls, for an answer that was given though it is over (RFC 5861, section 3)."""

from __future__ import annotations

from typing import Any, Protocol

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.forwarding import Passed, read_answer
from tamarack.core.carrying.needs import Failed, Refresh
from tamarack.core.http.heads import Answered
from tamarack.gateway.upstream.interface import Exchange, Upstream


class Keeps(Protocol):
    """Who keeps what comes."""

    refreshing: int

    def release(self, lookup: Any) -> None: ...


class AsksAnew(Protocol):
    """What asking anew needs of a node."""

    upstream: Upstream

    @property
    def caches(self) -> Keeps: ...

    def now(self) -> float: ...

    def log_error(self, call: Call, error: BaseException) -> None: ...


class Refreshing:
    """A `Listener` that takes an answer anew and keeps it."""

    def __init__(self, gateway: AsksAnew, need: Refresh, now: float) -> None:
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

    def give_up(self) -> None:
        """It could not even begin."""
        self._over(False)

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
