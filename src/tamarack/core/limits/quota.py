"""Quotas: so many calls in a day, week or month, and what happens to the calls after them."""

from typing import Annotated, Literal

from pydantic import AfterValidator, Field

from tamarack.core.limits.stretch import Period, Stretch, anchored_stretch, calendar_stretch, zone
from tamarack.core.limits.unit import Unit
from tamarack.core.limits.window import shortened
from tamarack.core.types import Frozen

Starts = Literal["calendar", "subscription"]
WhenUsedUp = Literal["refuse", "let through"]

MOST_IN_A_QUOTA = 10**12
OF_TOKENS = "@tokens/"
"""How the ids of budgets of tokens begin: before a product's name, or a policy's place and name."""
WARN_AT = (80, 100)
"""Percent of a quota at which people are told."""


def _zone(name: str) -> str:
    zone(name)
    return name


TimeZone = Annotated[str, AfterValidator(_zone)]
"""The name of a time zone of the IANA database."""


class Quota(Frozen):
    """A number of calls, or of tokens, in each day, week or month."""

    calls: int = Field(ge=1, le=MOST_IN_A_QUOTA)
    unit: Unit = "calls"
    """What it is a number of."""
    period: Period = "month"
    starts: Starts = "calendar"
    """Whether stretches are the calendar's, or are counted from the subscription's start."""
    time_zone: TimeZone = "UTC"
    """Whose calendar; of no meaning where stretches are counted from the subscription's start."""
    when_used_up: WhenUsedUp = "refuse"
    """Calls beyond it: refused, or let through and marked."""

    def stretch(self, now: float, anchor: float = 0.0, extra: tuple[int, int] = (0, 0)) -> Stretch:
        """The stretch around a moment. `anchor` is the subscription's start, `extra` a stretch's start and calls
        that were granted on top for it."""
        if self.starts == "subscription" and anchor:
            start, end = anchored_stretch(self.period, anchor, now)
        else:
            start, end = calendar_stretch(self.period, self.time_zone, now)
        granted = extra[1] if extra[0] == start else 0
        return Stretch(self.calls + granted, start, end, self.period, self.when_used_up == "let through")

    @property
    def brief(self) -> str:
        """For a narrow place: "100 k / month"."""
        what = "" if self.unit == "calls" else f" {self.unit}"
        return f"{shortened(self.calls)}{what} / {self.period}" + (
            ", soft" if self.when_used_up == "let through" else ""
        )

    def __str__(self) -> str:
        return self.brief

    @property
    def in_words(self) -> str:
        """The quota in a sentence, without who it is for."""
        count = f"{self.calls:,}".replace(",", " ")
        since = "of the calendar" if self.starts == "calendar" else "from the subscription's start"
        zone_said = f" in {self.time_zone}" if self.starts == "calendar" else ""
        after = "more are refused" if self.when_used_up == "refuse" else "more are let through and marked"
        return f"{count} {self.unit} in each {self.period} {since}{zone_said}; {after}"


def mark_of(used: int, limit: int) -> int:
    """The highest mark, in percent of the limit, that a count has reached; 0 for none."""
    return max((mark for mark in WARN_AT if mark * limit <= used * 100), default=0)
