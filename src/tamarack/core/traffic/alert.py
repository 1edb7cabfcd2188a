"""Alerts: what is watched, and how their states follow from what is measured, minute by minute.

An alert is raised when its condition has held for a time, and over when a weaker condition, beyond the hysteresis, has
not held for as long; so a value that trembles around the limit raises it once. All of it is a function of the values.
"""

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, time, timedelta
from decimal import Decimal
from typing import Annotated, Literal
from zoneinfo import ZoneInfo

from pydantic import EmailStr, Field, field_validator, model_validator

from tamarack.core.limits.quota import TimeZone
from tamarack.core.traffic.explore import MEASURES, Measure, measure
from tamarack.core.traffic.totals import Totals, together
from tamarack.core.traffic.where import Condition
from tamarack.core.types import EnvironmentName, Frozen, Title

MOST_WEEKS = 4
MINUTE = timedelta(minutes=1)
WEEK = timedelta(weeks=1)

AILING = "targets not well"
SILENT = "nodes not heard of"
WATCHED: Mapping[str, Measure] = {
    **MEASURES,
    AILING: Measure("targets that are not well", "count", lambda t, _: t.ailing),
    SILENT: Measure("nodes that are not heard of", "count", lambda t, _: t.silent),
}
"""What alerts may watch: what is measured of calls, how many targets some node finds not well, and how many nodes are
not heard of."""
NO_CALLS = frozenset((AILING, SILENT))
"""Of these, what is no matter of calls."""


def measure_of(name: str) -> Measure:
    """What an alert watches by its name. Raises ValueError."""
    return WATCHED[name] if name in WATCHED else measure(name)


StateName = Literal["calm", "rising", "raised", "easing"]


class QuietHours(Frozen):
    """When no mail is sent: from one time of day to another, which may be of the next day, in a time zone."""

    first: time
    last: time
    zone: TimeZone = "UTC"

    def until(self, at: datetime) -> datetime | None:
        """When the quiet hours end that a moment lies in; None where it lies in none."""
        local = at.astimezone(ZoneInfo(self.zone))
        clock = local.time().replace(tzinfo=None)
        if self.first < self.last:
            within = self.first <= clock < self.last
            day = local.date()
        else:
            within = clock >= self.first or clock < self.last
            day = local.date() + timedelta(days=1 if clock >= self.first else 0)
        if not within:
            return None
        return datetime.combine(day, self.last, ZoneInfo(self.zone)).astimezone(at.tzinfo)


class Rule(Frozen):
    """What an alert watches. Limits are in the measure's own unit: calls, calls a second, shares, microseconds, bytes.

    A change is a share too: 0.5 for half as much again as in the same minutes of earlier weeks.
    """

    title: Title
    measure: str = "error share"
    where: tuple[Condition, ...] = Field(default=(), max_length=20)
    environment: EnvironmentName = "production"
    compare: Literal["value", "change"] = "value"
    side: Literal["above", "below"] = "above"
    limit: float = Field(ge=-1e12, le=1e15, allow_inf_nan=False)
    window: int = Field(default=5, ge=1, le=1440)
    """Minutes that are measured together."""
    holds: int = Field(default=5, ge=1, le=1440)
    """Minutes that the condition has to hold, and not to hold to be over."""
    hysteresis: float = Field(default=0.1, ge=0, le=0.9)
    """How far the value has to come back beyond the limit, as a share of it."""
    least_calls: int = Field(default=0, ge=0, le=10**9)
    """With fewer calls in a window nothing is said of it."""
    weeks: int = Field(default=2, ge=1, le=MOST_WEEKS)
    """Earlier weeks that a change is measured against."""
    quiet: QuietHours | None = None
    mail_to: tuple[Annotated[EmailStr, Field(max_length=200)], ...] = Field(default=(), max_length=20)

    @field_validator("measure")
    @classmethod
    def _measured(cls, name: str) -> str:
        measure_of(name)
        return name

    @model_validator(mode="after")
    def _from_roll_ups(self) -> "Rule":
        wrong = next((one for one in self.where if not one.rolled), None)
        if wrong is not None:
            raise ValueError(
                f"'{wrong}' reads single calls; alerts are measured every minute, by fields of the roll-ups"
            )
        if self.measure in NO_CALLS and (self.where or self.compare == "change" or self.least_calls):
            raise ValueError(
                f"{self.measure!r} is no matter of calls; take out the conditions, the change and the least calls"
            )
        if any(one.field == "environment" for one in self.where):
            raise ValueError("the environment is chosen by itself; take it out of the conditions")
        if self.compare == "change" and self.side == "below" and self.limit < -1:
            raise ValueError(f"a change of {self.limit:.0%} cannot be: nothing falls by more than all of it")
        return self

    @property
    def measured(self) -> Measure:
        return measure_of(self.measure)

    def holds_for(self, value: float) -> bool:
        """Whether the condition holds for a value."""
        return value > self.limit if self.side == "above" else value < self.limit

    def over_for(self, value: float) -> bool:
        """Whether a value is far enough back for the alert to be over."""
        slack = abs(self.limit) * self.hysteresis
        return value <= self.limit - slack if self.side == "above" else value >= self.limit + slack

    def value_of(self, now: Totals, earlier: Sequence[Totals] = ()) -> float | None:
        """What is compared with the limit, for the calls of one window; None where there are too few to say."""
        seconds = self.window * 60.0
        if now.calls < self.least_calls:
            return None
        value = self.measured.of(now, seconds)
        if self.compare == "value" or value is None:
            return value
        told = [found for one in earlier if one.calls and (found := self.measured.of(one, seconds)) is not None]
        usual = sum(told) / len(told) if told else 0.0
        return value / usual - 1 if usual else None


@dataclass(frozen=True, slots=True)
class State:
    """How an alert stands: since when, for how many minutes a change has shown, and the value last seen."""

    name: StateName = "calm"
    since: datetime | None = None
    held: int = 0
    value: float | None = None


@dataclass(frozen=True, slots=True)
class Event:
    """An alert was raised, or is over."""

    what: Literal["raised", "over"]
    at: datetime
    value: float | None


def step(rule: Rule, state: State, at: datetime, value: float | None) -> tuple[State, Event | None]:
    """The state after one more minute, which ended at a moment; and what is to be told, if anything.

    A minute of which nothing can be said changes nothing, and counts neither for nor against.
    """
    if value is None:
        return replace(state, value=None), None
    if state.name in ("calm", "rising"):
        if not rule.holds_for(value):
            return State("calm", state.since if state.name == "calm" else at, 0, value), None
        if state.held + 1 >= rule.holds:
            return State("raised", at, 0, value), Event("raised", at, value)
        return State("rising", state.since, state.held + 1, value), None
    if not rule.over_for(value):
        return State("raised", state.since, 0, value), None
    if state.held + 1 >= rule.holds:
        return State("calm", at, 0, value), Event("over", at, value)
    return State("easing", state.since, state.held + 1, value), None


def run(rule: Rule, state: State, values: Iterable[tuple[datetime, float | None]]) -> tuple[State, list[Event]]:
    """The state after some minutes, in order, and everything that is to be told of them."""
    events = []
    for at, value in values:
        state, event = step(rule, state, at, value)
        if event is not None:
            events.append(event)
    return state, events


def windows(points: Sequence[Totals], window: int) -> list[Totals]:
    """The totals of each minute's window: that minute, and those before it that the window reaches back to.

    The first `window - 1` points only lead in, and have none of their own.
    """
    return [together(points[place - window + 1 : place + 1]) for place in range(window - 1, len(points))]


def mail_due(rule: Rule, event: Event) -> datetime:
    """When an event is told by mail: at once, or when the quiet hours are over."""
    return (rule.quiet.until(event.at) if rule.quiet is not None else None) or event.at


_LIMIT = re.compile(r"^([+-]?\d+(?:\.\d+)?)\s*(%|µs|us|ms|s|min|B|kB|MB|GB)?$")
_UNITS = {"µs": 1.0, "us": 1.0, "ms": 1e3, "s": 1e6, "min": 6e7, "B": 1.0, "kB": 1e3, "MB": 1e6, "GB": 1e9}
_FITTING = {"time": ("µs", "us", "ms", "s", "min"), "bytes": ("B", "kB", "MB", "GB"), "share": ("%",)}
_LIKE = {"time": "300 ms", "bytes": "5 MB", "share": "5 %", "count": "100", "rate": "20"}


def read_limit(text: str, name: str, compare: str) -> float:
    """A limit as people type it, in the measure's own unit: `5 %`, `300 ms`, `100`; of a change, `+50 %`.

    Raises ValueError that says how it is written.
    """
    unit = "share" if compare == "change" else measure_of(name).unit
    like = "+50 %" if compare == "change" else _LIKE[unit]
    found = _LIMIT.match(text.strip().replace(",", "."))
    fitting = _FITTING.get(unit, ())
    if found is None or (found[2] or "") not in (fitting or ("",)):
        raise ValueError(f"{text!r} is no limit for {measure_of(name).title}; write it like {like}")
    value = float(found[1])
    return value / 100 if found[2] == "%" else value * _UNITS.get(found[2] or "", 1.0)


def written_limit(value: float, name: str, compare: str) -> str:
    """A limit as `read_limit` reads it."""
    unit = "share" if compare == "change" else measure_of(name).unit
    if unit == "share":
        return f"{_number(value * 100, '+' if compare == 'change' else '')} %"
    if unit == "time":
        return f"{_number(value / 1000)} ms"
    return f"{_number(value)} B" if unit == "bytes" else _number(value)


def _number(value: float, sign: str = "") -> str:
    """Six figures, never with an exponent, which no limit is typed with."""
    return f"{Decimal(f'{value:.6g}'):{sign}f}"
