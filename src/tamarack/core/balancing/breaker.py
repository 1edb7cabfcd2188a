"""The breaker of one target: after failures it lets no call through for a while, then a few, then all again.

`TRANSITIONS` is the whole of it: what happens in which state, and what state follows.
"""

from __future__ import annotations

from collections import deque
from enum import StrEnum
from typing import Annotated

from pydantic import Field

from tamarack.core.types import Frozen

MOST_OPEN_S = 3_600
"""Seconds that a target can make a breaker stay open by its Retry-After."""
SLICES = 10
"""How finely the share of failures is counted."""


class State(StrEnum):
    """Whether calls go to a target."""

    CLOSED = "closed"
    OPEN = "open"
    HALF_OPEN = "half-open"


class Event(StrEnum):
    """What can happen to a breaker."""

    SUCCESS = "success"
    FAILURE = "failure"
    TOO_MANY = "too many failures"
    TOLD_TO_WAIT = "told to wait"
    TIME_IS_UP = "time is up"
    ENOUGH = "enough successes"


TRANSITIONS: dict[tuple[State, Event], State] = {
    (State.CLOSED, Event.SUCCESS): State.CLOSED,
    (State.CLOSED, Event.FAILURE): State.CLOSED,
    (State.CLOSED, Event.TOO_MANY): State.OPEN,
    (State.CLOSED, Event.TOLD_TO_WAIT): State.OPEN,
    (State.OPEN, Event.SUCCESS): State.OPEN,  # of a call that went before it opened
    (State.OPEN, Event.FAILURE): State.OPEN,
    (State.OPEN, Event.TOLD_TO_WAIT): State.OPEN,
    (State.OPEN, Event.TIME_IS_UP): State.HALF_OPEN,
    (State.HALF_OPEN, Event.SUCCESS): State.HALF_OPEN,
    (State.HALF_OPEN, Event.ENOUGH): State.CLOSED,
    (State.HALF_OPEN, Event.FAILURE): State.OPEN,
    (State.HALF_OPEN, Event.TOLD_TO_WAIT): State.OPEN,
}


class BreakerRules(Frozen):
    """When a target is spared. With neither of the first two, only its own Retry-After opens the breaker."""

    in_a_row: Annotated[int, Field(ge=0, le=1_000)] = 5
    """So many failures in a row open it; 0 for never."""
    share: Annotated[int, Field(ge=0, le=100)] = 50
    """So many of a hundred calls that failed open it; 0 for never."""
    at_least: Annotated[int, Field(ge=1, le=10_000)] = 20
    """The share counts from so many calls on."""
    within_s: Annotated[int, Field(ge=1, le=600)] = 10
    """The share is of the calls of so many seconds."""
    open_s: Annotated[int, Field(ge=1, le=600)] = 10
    """For how long it is open."""
    trial_calls: Annotated[int, Field(ge=1, le=100)] = 2
    """How many calls are let through at a time when it is half-open, and how many must succeed to close it."""
    heed_retry_after: bool = True
    """An answer 429 or 503 with Retry-After opens it at once, for that time."""


class Breaker:
    """One target's breaker. Moments are seconds of one clock, and never go back."""

    __slots__ = ("_calls", "_row", "_trials", "_well", "_width", "changed", "rules", "state", "until", "why")

    def __init__(self, rules: BreakerRules) -> None:
        self.rules = rules
        self.state = State.CLOSED
        self.until = 0.0
        """When it is open no more."""
        self.why = ""
        """Why it is in its state, in words."""
        self.changed = 0
        """How often its state changed."""
        self._row = 0
        self._trials = 0
        """Calls let through that have not ended, half-open."""
        self._well = 0
        self._width = rules.within_s / SLICES
        self._calls: deque[list[int]] = deque()
        """Slices of the past: their number, calls, failures."""

    def lets_through(self, now: float) -> bool:
        """Whether a call may go to the target now."""
        if self.state is State.OPEN and now >= self.until:
            self._move(Event.TIME_IS_UP, f"{self.rules.open_s} s are over; a few calls are tried")
        if self.state is State.CLOSED:
            return True
        return self.state is State.HALF_OPEN and self._trials < self.rules.trial_calls

    def went(self) -> bool:
        """A call goes to the target. Returns whether it is a trial, to be told with what became of it."""
        if self.state is State.HALF_OPEN:
            self._trials += 1
            return True
        return False

    def left(self, trial: bool) -> None:
        """A call ended without telling anything of the target: its caller went away, say."""
        if trial and self._trials:
            self._trials -= 1

    def succeeded(self, now: float, trial: bool = False) -> None:
        """A call was answered."""
        self._row = 0
        if self.state is State.CLOSED:
            if self.rules.share:
                calls = self._calls
                if calls and calls[-1][0] == int(now / self._width):
                    calls[-1][1] += 1
                else:
                    self._count(now, 0)
            return
        self.left(trial)
        if self.state is State.HALF_OPEN and trial:
            self._well += 1
            enough = self._well >= self.rules.trial_calls
            self._move(Event.ENOUGH if enough else Event.SUCCESS, f"{self._well} calls in a row were answered")

    def failed(self, now: float, trial: bool = False, what: str = "failed") -> None:
        """A call failed."""
        self.left(trial)
        self._row += 1
        if self.state is State.HALF_OPEN:
            if trial:
                self._open(Event.FAILURE, now, self.rules.open_s, f"a call that was tried failed: {what}")
            return
        if self.state is State.OPEN:
            return
        rules = self.rules
        if rules.in_a_row and self._row >= rules.in_a_row:
            self._open(Event.TOO_MANY, now, rules.open_s, f"{self._row} calls in a row failed, the last: {what}")
            return
        if rules.share:
            calls, failures = self._count(now, 1)
            if calls >= rules.at_least and failures * 100 >= calls * rules.share:
                words = f"{failures} of {calls} calls failed within {rules.within_s} s, the last: {what}"
                self._open(Event.TOO_MANY, now, rules.open_s, words)

    def told_to_wait(self, now: float, seconds: float, trial: bool = False, status: int = 503) -> None:
        """The target answered 429 or 503, and for how long it wants no calls."""
        self.left(trial)
        self._row += 1
        wait = min(max(seconds, 0.0), MOST_OPEN_S)
        if self.state is State.OPEN:
            self.until = max(self.until, now + wait)
            return
        if wait > 0:
            self._open(Event.TOLD_TO_WAIT, now, wait, f"it answered {status} and asked to wait {wait:g} s")

    def _open(self, event: Event, now: float, seconds: float, why: str) -> None:
        self.until = now + seconds
        self._move(event, why)

    def _move(self, event: Event, why: str) -> None:
        state = TRANSITIONS[self.state, event]
        if state is self.state:
            return
        self.state = state
        self.why = why
        self.changed += 1
        self._trials = self._well = self._row = 0
        self._calls.clear()

    def _count(self, now: float, failed: int) -> tuple[int, int]:
        """Count a call; returns how many there were within the span, and how many of them failed."""
        number = int(now / self._width)
        calls = self._calls
        while calls and calls[0][0] <= number - SLICES:
            calls.popleft()
        if not calls or calls[-1][0] != number:
            calls.append([number, 0, 0])
        calls[-1][1] += 1
        calls[-1][2] += failed
        if not failed:
            return 0, 0
        return sum(one[1] for one in calls), sum(one[2] for one in calls)
