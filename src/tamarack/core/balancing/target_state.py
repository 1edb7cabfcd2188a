"""What a node knows of one target: its breaker, its checks, how many calls are under way, and what changed when."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from typing import NamedTuple, TypeVar

from tamarack.core.balancing.breaker import Breaker, BreakerRules
from tamarack.core.balancing.breaker import State as BreakerState
from tamarack.core.balancing.health import Checked, HealthRules
from tamarack.core.http.target import Target

T = TypeVar("T")

FAILING = frozenset((500, 502, 503, 504))
"""Answers that count as failures of the target."""
MOST_EVENTS = 500
"""Changes that wait to be handed over."""


class Changed(NamedTuple):
    """A target's state changed. `state` is well, unwell, open or half-open; `at` seconds since the epoch."""

    at: float
    backend: str
    target: str
    state: str
    why: str


class TargetState:
    """One target of one backend, as a node sees it. It outlasts rollouts that leave its rules as they are."""

    __slots__ = ("backend", "breaker", "calm", "checked", "events", "label", "under_way")

    def __init__(
        self,
        backend: str,
        label: str,
        breaker: BreakerRules | None,
        health: HealthRules | None,
        events: deque[Changed] | None = None,
    ) -> None:
        self.backend = backend
        self.label = label
        self.breaker = Breaker(breaker) if breaker is not None else None
        self.checked = Checked(health) if health is not None else None
        self.events: deque[Changed] = deque(maxlen=MOST_EVENTS) if events is None else events
        self.under_way = 0
        self.calm = True
        """Whether its breaker is closed and its checks find nothing wrong: what is looked at first on a call's way."""

    @property
    def state(self) -> str:
        """In a word: open and half-open by its breaker, else well or unwell by its checks."""
        if self.breaker is not None and self.breaker.state is not BreakerState.CLOSED:
            return self.breaker.state.value
        return "well" if self.checked is None or self.checked.well else "unwell"

    @property
    def why(self) -> str:
        if self.breaker is not None and self.breaker.state is not BreakerState.CLOSED:
            return self.breaker.why
        return self.checked.why if self.checked is not None else ""

    @property
    def well(self) -> bool:
        """Whether checks find nothing wrong with it."""
        return self.checked is None or self.checked.well

    def lets_through(self, now: float) -> bool:
        """Whether its breaker lets a call through."""
        if self.breaker is None:
            return True
        return self._watched(now, lambda: self.breaker.lets_through(now))  # type: ignore[union-attr]

    def went(self) -> bool:
        """A call goes to it; returns whether that is a trial."""
        self.under_way += 1
        return False if self.calm or self.breaker is None else self.breaker.went()

    def noted(self, now: float, status: int, what: str, trial: bool, retry_after: float | None = None) -> None:
        """What became of a call: the status of its answer, or 0 and what went wrong."""
        breaker = self.breaker
        if breaker is None:
            return
        if self.calm and status and retry_after is None and status not in FAILING:
            breaker.succeeded(now)  # nothing can change by that
        else:
            self._noted(breaker, now, status, what, trial, retry_after)

    def _noted(
        self, breaker: Breaker, now: float, status: int, what: str, trial: bool, retry_after: float | None
    ) -> None:
        def note() -> None:
            if retry_after is not None and status in (429, 503) and breaker.rules.heed_retry_after:
                breaker.told_to_wait(now, retry_after, trial, status)
            elif not status or status in FAILING:
                breaker.failed(now, trial, what or f"it answered {status}")
            else:
                breaker.succeeded(now, trial)

        self._watched(now, note)

    def left(self, trial: bool) -> None:
        """A call ended without telling anything of it."""
        if self.breaker is not None:
            self.breaker.left(trial)

    def check_ended(self, now: float, good: bool, why: str) -> None:
        """An active check has ended."""
        if self.checked is not None and self.checked.noted(good, why):
            self.calm = self.state == "well"
            self.events.append(Changed(now, self.backend, self.label, self.state, self.checked.why))

    def _watched(self, now: float, change: Callable[[], T]) -> T:
        """Do something that may change the state, and note it where it does."""
        before = self.state
        found = change()
        if self.state != before:
            self.calm = self.state == "well"
            self.events.append(Changed(now, self.backend, self.label, self.state, self.why))
        return found


class TargetStates:
    """All that a node knows of its targets. A rollout that leaves a target's rules alone leaves its state alone."""

    def __init__(self) -> None:
        self.events: deque[Changed] = deque(maxlen=MOST_EVENTS)
        self._known: dict[tuple[str, str], tuple[BreakerRules | None, HealthRules | None, TargetState]] = {}

    def of(
        self,
        backend: str,
        target: Target,
        breaker: BreakerRules | None,
        health: HealthRules | None,
        now: float = 0.0,
    ) -> TargetState:
        """The state of a target under its rules."""
        known = self._known.get((backend, target.label))
        if known is None or known[:2] != (breaker, health):
            if known is not None:
                self._over(known[2], now, "its rules were changed")
            state = TargetState(backend, target.label, breaker, health, self.events)
            known = self._known[backend, target.label] = (breaker, health, state)
        return known[2]

    def all(self) -> list[TargetState]:
        """Every target that is known."""
        return [state for _, _, state in list(self._known.values())]

    def forget_others(self, kept: set[tuple[str, str]], now: float = 0.0) -> None:
        """Forget the targets that no rollout names any more."""
        for key in self._known.keys() - kept:
            self._over(self._known.pop(key)[2], now, "it is a target no more")

    def _over(self, state: TargetState, now: float, why: str) -> None:
        """Whatever was wrong with a target is known no more."""
        if state.state != "well":
            self.events.append(Changed(now, state.backend, state.label, "well", why))
