"""Where an operation's calls go on to: the targets of its backend, each in its turn, and how the gateway signs in."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Sequence

from tamarack.core.http.fields import Header
from tamarack.core.http.target import Target

SignIn = Callable[[], Header | None]


class Route:
    """The way to one backend in one environment. What became of each attempt at a target is told to it."""

    __slots__ = ("_turn", "attempts", "sign_in", "targets")

    def __init__(self, targets: Sequence[Target], sign_in: SignIn | None = None) -> None:
        self.targets = tuple(targets)
        self.sign_in = sign_in
        """Makes the field to sign in with; None from it means that its secret is not set."""
        self._turn = itertools.count()
        self.attempts: dict[tuple[str, str], int] = {}
        """How many attempts ended in which way, by the target's label: `answered`, or the failure."""

    def choose(self) -> Target | None:
        """The target to ask; None where there is none."""
        targets = self.targets
        if len(targets) == 1:
            return targets[0]
        return targets[next(self._turn) % len(targets)] if targets else None

    def noted(self, target: Target, outcome: str) -> None:
        """What became of an attempt."""
        key = (target.label, outcome)
        attempts = self.attempts
        attempts[key] = attempts.get(key, 0) + 1
