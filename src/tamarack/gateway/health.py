"""Active checks: each node asks the targets of backends that want it, apart from calls, and notes how they are."""

from __future__ import annotations

import asyncio
from time import time

from tamarack.core.balancing.health import HealthRules
from tamarack.core.balancing.route import Choice
from tamarack.core.balancing.time_limits import TimeLimits
from tamarack.core.carrying.needs import Ask, Failed
from tamarack.core.http.heads import Answered
from tamarack.gateway.gateway import Gateway
from tamarack.gateway.upstream.interface import Exchange

LOOK_EVERY_S = 0.25
MOST_AT_ONCE = 64
"""Checks under way."""


class HealthChecks:
    """Keeps checking while the node runs."""

    def __init__(self, gateway: Gateway) -> None:
        self._gateway = gateway
        self._due: dict[tuple[str, str], float] = {}
        self._under_way: set[tuple[str, str]] = set()

    async def run(self) -> None:
        """Check until cancelled. What goes wrong with one target stops no other."""
        while True:
            self.look(time())
            await asyncio.sleep(LOOK_EVERY_S)

    def look(self, now: float) -> None:
        """Begin the checks that are due; a breaker whose time is up becomes half-open, also while no call comes."""
        for state in self._gateway.states.all():
            state.lets_through(now)
        serving = self._gateway.serving
        if serving is None:
            return
        for backend, rules in serving.health.items():
            for choice in serving.routes[backend].choices:
                place = (backend, choice.target.label)
                if place in self._under_way or len(self._under_way) >= MOST_AT_ONCE:
                    continue
                if now >= self._due.get(place, 0.0):
                    self._due[place] = now + rules.every_s
                    self._under_way.add(place)
                    _Check(self, self._gateway, place, rules, choice).start()

    def over(self, place: tuple[str, str]) -> None:
        """A check has ended."""
        self._under_way.discard(place)


class _Check:
    """One check: a `Listener` that looks at the status alone."""

    def __init__(
        self, checks: HealthChecks, gateway: Gateway, place: tuple[str, str], rules: HealthRules, choice: Choice
    ) -> None:
        self._checks = checks
        self._gateway = gateway
        self._place = place
        self._rules = rules
        self._choice = choice
        self._exchange: Exchange | None = None

    def start(self) -> None:
        """Send the request."""
        target, within = self._choice.target, self._rules.within_ms / 1000
        head = b"GET %b%b%buser-agent: tamarack-check\r\naccept: */*\r\n\r\n" % (
            target.path, self._rules.path.encode(), target.head,
        )  # fmt: skip
        ask = Ask(target, "GET", head, b"", "health")
        ask.limits = TimeLimits(within, within, within, within)
        ask.left_s = within
        ask.repeatable = True
        exchange = self._gateway.upstream.ask(ask, self)
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
        self._over(self._rules.good(answer.status), f"it answered {answer.status}")

    def piece(self, data: bytes) -> None:
        """See `Listener.piece`."""

    def ended(self) -> None:
        """See `Listener.ended`."""

    def failed(self, failure: Failed) -> None:
        """See `Listener.failed`."""
        self._over(False, f"it {failure.step}")

    def _over(self, good: bool, why: str) -> None:
        exchange, self._exchange = self._exchange, None
        if exchange is not None:
            exchange.close()
        self._checks.over(self._place)
        if self._choice.state is not None:
            self._choice.state.check_ended(time(), good, why)
