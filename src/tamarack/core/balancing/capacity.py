"""What a target of a language model has reserved: so many tokens a minute, of which the last are kept for some plans.

Each node counts what it sent itself. While there is room elsewhere, a target whose minute is full is passed over.
"""

from __future__ import annotations

from typing import NamedTuple


class CapacityRules(NamedTuple):
    """A target's tokens a minute; from which share on, in percent, only some plans take of it."""

    tokens: int
    kept_from: int = 100
    kept_for: frozenset[str] = frozenset()
    """Plans, as `product/plan`."""


class Capacity:
    """A target's minute, as one node uses it."""

    __slots__ = ("_minute", "_used", "rules")

    def __init__(self, rules: CapacityRules) -> None:
        self.rules = rules
        self._minute = 0
        self._used = 0

    def _turn(self, now: float) -> None:
        minute = int(now) // 60
        if minute > self._minute:
            self._minute, self._used = minute, 0

    def is_kept(self, now: float, plan: str) -> bool:
        """Whether what is left of the minute is kept for other plans."""
        self._turn(now)
        rules = self.rules
        return (
            bool(rules.kept_for) and plan not in rules.kept_for and self._used * 100 >= rules.tokens * rules.kept_from
        )

    def has_room(self, now: float, tokens: int) -> bool:
        """Whether so many tokens still fit into the minute."""
        self._turn(now)
        return self._used == 0 or self._used + tokens <= self.rules.tokens

    def sent(self, now: float, tokens: int) -> None:
        """A call went there."""
        self._turn(now)
        self._used += tokens

    def settled(self, came: float, tokens: int) -> None:
        """A call that came then took so many more, or below 0 fewer."""
        if int(came) // 60 == self._minute:
            self._used = max(0, self._used + tokens)

    def used(self, now: float) -> int:
        """Tokens of the running minute."""
        self._turn(now)
        return self._used
