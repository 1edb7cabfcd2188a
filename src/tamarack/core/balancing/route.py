"""Where an operation's calls go on to: the targets of its backend, and how the gateway signs in.

The lowest priority that has a target which is well takes the calls; within it turns go by weight, to the target with
the fewest calls under way, or to the same one for the same key (RFC 2782 for the words).
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Final

from tamarack.core.balancing.capacity import Capacity
from tamarack.core.balancing.target_state import TargetState
from tamarack.core.balancing.time_limits import TimeLimits
from tamarack.core.balancing.turns import place_of, smooth_cycle
from tamarack.core.carrying.call import Call
from tamarack.core.http.fields import Header
from tamarack.core.http.target import Target

SignIn = Callable[[], Header | None]
KeyOfCall = Callable[[Call], bytes]
"""What calls have in common that go to one target; empty for none."""
_MOST_CYCLES: Final = 256
FIRST_CREDIT: Final = 1_000
"""What retries may take at first, in hundredths of one: a target that dies just then costs no call."""


class Choice:
    """One target that may be chosen. Without a `state` nothing is known of it, and it is always well.

    `models` are what it calls the models that it serves, by the names that callers ask by; None where any name goes on
    as it is. `capacity` is what of a language model is reserved there. `sign_in` goes before its route's.
    """

    __slots__ = ("capacity", "label", "models", "priority", "sign_in", "state", "target", "weight")

    def __init__(
        self,
        target: Target,
        state: TargetState | None = None,
        weight: int = 1,
        priority: int = 0,
        models: Mapping[str, str] | None = None,
        capacity: Capacity | None = None,
        sign_in: SignIn | None = None,
    ) -> None:
        self.sign_in = sign_in
        self.models = models
        self.capacity = capacity
        self.target = target
        self.state = state
        self.weight = weight
        self.priority = priority
        self.label = target.label.encode()


class Route:
    """The way to one backend in one environment. What became of each attempt at a target is told to it."""

    __slots__ = (
        "_cycle",
        "_cycles",
        "_states",
        "_turn",
        "_turns",
        "asks_models",
        "attempts",
        "choices",
        "credit",
        "fewest",
        "key_of",
        "limits",
        "only",
        "overflows",
        "sign_in",
    )

    def __init__(
        self,
        choices: Sequence[Choice | Target],
        sign_in: SignIn | None = None,
        *,
        fewest: bool = False,
        key_of: KeyOfCall | None = None,
        limits: TimeLimits | None = None,
        overflows: bool = False,
    ) -> None:
        self.overflows = overflows
        """Whether a call that a target turns away (429, or 503 with Retry-After) goes to the next."""
        made = [one if isinstance(one, Choice) else Choice(one) for one in choices]
        self.choices = tuple(sorted(made, key=lambda choice: choice.priority))
        self.asks_models = any(one.models is not None or one.capacity is not None for one in made)
        """Whether a target is chosen by the model that a call asks for, or by what is reserved."""
        self.only = made[0] if len(made) == 1 and made[0].state is None and not self.asks_models else None
        """The one target, where there is nothing to choose."""
        self.sign_in = sign_in
        """Makes the field to sign in with; None from it means that its secret is not set."""
        self.fewest = fewest
        self.limits = limits
        """What its backend says beside its targets' own time limits."""
        self.key_of = key_of
        self.credit = FIRST_CREDIT
        """What the retries of this route may still take, in hundredths; see `core.balancing.retrying`."""
        self._states = tuple(choice.state for choice in self.choices if choice.state is not None)
        self._cycle: list[Choice] | None = None
        """Whose turn it is while all are well, where turns go by weight alone."""
        self._turn = 0
        if self.choices and not fewest and key_of is None and not self.asks_models:
            first = [choice for choice in self.choices if choice.priority == self.choices[0].priority]
            self._cycle = [first[place] for place in smooth_cycle([choice.weight for choice in first])]
        self._cycles: dict[tuple[Choice, ...], list[Choice]] = {}
        self._turns: dict[tuple[Choice, ...], int] = {}
        self.attempts: dict[tuple[str, str], int] = {}
        """How many attempts ended in which way, by the target's label: `answered`, or the failure."""

    @property
    def targets(self) -> tuple[Target, ...]:
        return tuple(choice.target for choice in self.choices)

    def choose(self, call: Call, tried: Sequence[Choice] = ()) -> Choice | None:
        """The target to ask; None where there is none, or none whose breaker lets a call through.

        Those that were tried for this call come last. Where checks find all unwell, they are asked all the same:
        checks may be wrong, and calls would be refused for it.
        """
        if not tried:
            for state in self._states:
                if not state.calm:
                    break
            else:
                cycle = self._cycle
                if cycle is not None:
                    turn = self._turn
                    self._turn = turn + 1 if turn + 1 < len(cycle) else 0
                    return cycle[turn]
        now = call.now
        open_to = [c for c in self.choices if c.state is None or c.state.lets_through(now)]
        if self.asks_models and call.prompt is not None:
            open_to = _serving(call, open_to)
        if not open_to:
            return None
        well = [c for c in open_to if c.state is None or c.state.well] or open_to
        fresh = [c for c in well if c not in tried] if tried else well
        if tried and not fresh:
            fresh = [c for c in open_to if c not in tried] or well
        first = fresh[0].priority
        group = tuple(c for c in fresh if c.priority == first)
        if len(group) == 1:
            return group[0]
        if self.key_of is not None:
            key = self.key_of(call)
            if key:
                return group[place_of(key, [c.label for c in group], [c.weight for c in group])]
        if self.fewest:
            return min(group, key=lambda c: c.state.under_way / c.weight if c.state is not None else 0)
        return self._next(group)

    def offers(self, model: str) -> bool:
        """Whether any target serves a model by this name."""
        return any(choice.models is None or model in choice.models for choice in self.choices)

    def _next(self, group: tuple[Choice, ...]) -> Choice:
        cycle = self._cycles.get(group)
        if cycle is None:
            if len(self._cycles) >= _MOST_CYCLES:
                self._cycles.clear()
                self._turns.clear()
            cycle = self._cycles[group] = [group[place] for place in smooth_cycle([c.weight for c in group])]
        turn = self._turns.get(group, 0)
        self._turns[group] = turn + 1 if turn + 1 < len(cycle) else 0
        return cycle[turn]

    def resting_for(self, now: float) -> int:
        """Whole seconds until a breaker lets a call through again, at least one."""
        states = [choice.state for choice in self.choices if choice.state is not None]
        until = min((state.breaker.until for state in states if state.breaker is not None), default=now)
        return max(1, int(until - now + 0.999))

    def noted(self, choice: Choice, outcome: str) -> None:
        """What became of an attempt."""
        key = (choice.target.label, outcome)
        attempts = self.attempts
        attempts[key] = attempts.get(key, 0) + 1


def _serving(call: Call, choices: list[Choice]) -> list[Choice]:
    """Those that serve the model that a call asks for. One whose minute is full comes after all that have room; what is
    kept for other plans is not taken at all."""
    prompt, now = call.prompt, call.now
    plan = call.grant.plan if call.grant is not None else ""
    found = [
        one
        for one in choices
        if (one.models is None or prompt.model in one.models)
        and (one.capacity is None or not one.capacity.is_kept(now, plan))
    ]
    tokens = prompt.reserves("tokens")
    return [one for one in found if one.capacity is None or one.capacity.has_room(now, tokens)] or found
