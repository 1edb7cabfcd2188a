"""Explorations: one question of the traffic, in the fields' own words, that an address can hold.

A question is a measure, what it is split by, which calls it is about, and how it is drawn. The rules are here; what
answers it from roll-ups is `store.exploring`.
"""

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field, PlainSerializer, StringConstraints, field_validator

from tamarack.core.model import Frozen
from tamarack.core.traffic.histogram import percentile
from tamarack.core.traffic.rollup import Totals

FIELDS: Mapping[str, str] = {
    "environment": "environment",
    "api": "API",
    "version": "version",
    "operation": "operation",
    "status": "status",
    "reason": "reason",
    "organization": "organization",
    "application": "application",
    "plan": "plan",
    "target": "target",
}
"""What calls may be split and filtered by, each with its words."""
MOST_SPLITS = 2
MOST_GROUPS = 8
"""Groups that are shown by themselves; all others together are `other`."""
OTHER = "other"


@dataclass(slots=True)
class Sums(Totals):
    """Totals of calls that ended in several ways: with how many failed, and how many were refused."""

    failed: int = 0
    refused: int = 0

    def merge(self, other: Totals) -> None:
        """Take in the sums of other calls."""
        Totals.merge(self, other)
        if isinstance(other, Sums):
            self.failed += other.failed
            self.refused += other.refused


@dataclass(frozen=True, slots=True)
class Measure:
    """Something that can be measured: its words, its unit, and its value over some calls in so many seconds.

    `adds` says whether the values of groups add up to that of all, so that they can be stacked.
    """

    title: str
    unit: Literal["count", "rate", "share", "time", "bytes"]
    of: Callable[[Sums, float], float | None]
    adds: bool = False
    needs_histogram: bool = False


def _share(part: int, whole: int) -> float | None:
    return part / whole if whole else None


def _percentile(share: float) -> Callable[[Sums, float], float | None]:
    return lambda sums, _: percentile(sums.histogram, share)


MEASURES: Mapping[str, Measure] = {
    "calls": Measure("calls", "count", lambda s, _: s.calls, adds=True),
    "rate": Measure("calls a second", "rate", lambda s, seconds: s.calls / seconds, adds=True),
    "refused": Measure("refused calls", "count", lambda s, _: s.refused, adds=True),
    "failed": Measure("failed calls", "count", lambda s, _: s.failed, adds=True),
    "error share": Measure("share of refused and failed", "share", lambda s, _: _share(s.refused + s.failed, s.calls)),
    "mean": Measure("mean time to answer", "time", lambda s, _: _share(s.total_us, s.calls)),
    "backend mean": Measure("mean time of the backend", "time", lambda s, _: _share(s.backend_us, s.calls)),
    "p50": Measure("half answered within", "time", _percentile(0.5), needs_histogram=True),
    "p95": Measure("95 % answered within", "time", _percentile(0.95), needs_histogram=True),
    "p99": Measure("99 % answered within", "time", _percentile(0.99), needs_histogram=True),
    "bytes": Measure("bytes answered", "bytes", lambda s, _: s.response_bytes, adds=True),
}

_FORM = re.compile(r"^\s*([a-z]+)\s+(is not|is|starts with|from)\s+(.*?)\s*$")
How = Literal["is", "is not", "starts with", "from"]


class Where(Frozen):
    """Which calls: a field and what it has to be. Reads and writes as text.

    `api is sailings`, `status is 429, 503`, `reason is not over-rate`, `operation starts with get /sail`,
    `status from 400 to 499`, `application is none` for calls that have none.
    """

    field: str
    how: How
    values: tuple[Annotated[str, StringConstraints(max_length=300)], ...] = Field(max_length=50)

    @field_validator("field")
    @classmethod
    def _known(cls, field: str) -> str:
        if field not in FIELDS:
            raise ValueError(f"{field!r} is not a field of calls; those are {', '.join(FIELDS)}")
        return field

    def __str__(self) -> str:
        values = [value or "none" for value in self.values]
        joined = " to ".join(values) if self.how == "from" else ", ".join(values)
        return f"{self.field} {self.how} {joined}"


def _where(value: object) -> object:
    if not isinstance(value, str):
        return value
    found = _FORM.match(value)
    if found is None:
        raise ValueError(
            f"{value!r} says no condition; write it like 'api is sailings', 'status from 400 to 499' or"
            " 'operation starts with get /sailings'"
        )
    field, how, rest = found.groups()
    if how == "from":
        values = [part.strip() for part in rest.split(" to ")]
        if field != "status" or len(values) != 2 or not all(part.isdigit() for part in values):
            raise ValueError(f"{value!r}: a range is for the status, like 'status from 400 to 499'")
    elif how == "starts with":
        values = [rest]
    else:
        values = [part.strip() for part in rest.split(",")]
        values = ["" if part == "none" else part for part in values]
    if field == "status" and how in ("is", "is not") and not all(part.isdigit() for part in values):
        raise ValueError(f"{value!r}: a status is a number, like 429")
    return {"field": field, "how": how, "values": values}


Condition = Annotated[Where, BeforeValidator(_where), PlainSerializer(str, return_type=str)]
Picture = Literal["line", "area", "table"]


class Exploration(Frozen):
    """One question of the traffic."""

    measure: str = "calls"
    split: tuple[str, ...] = Field(default=(), max_length=MOST_SPLITS)
    where: tuple[Condition, ...] = Field(default=(), max_length=20)
    span: str = "day"
    picture: Picture = "area"

    @field_validator("measure")
    @classmethod
    def _measured(cls, measure: str) -> str:
        if measure not in MEASURES:
            raise ValueError(f"{measure!r} is no measure; those are {', '.join(MEASURES)}")
        return measure

    @field_validator("split")
    @classmethod
    def _fields(cls, split: tuple[str, ...]) -> tuple[str, ...]:
        wrong = next((field for field in split if field not in FIELDS), None)
        if wrong is not None:
            raise ValueError(f"{wrong!r} is not a field of calls; those are {', '.join(FIELDS)}")
        return tuple(dict.fromkeys(split))

    @property
    def measured(self) -> Measure:
        return MEASURES[self.measure]

    @property
    def stacked(self) -> bool:
        """Whether its groups are drawn on each other: only what adds up may be."""
        return self.picture == "area" and self.measured.adds

    def narrowed(self, values: Mapping[str, str]) -> "Exploration":
        """The same question of fewer calls: those with these values, and split by what is left."""
        kept = tuple(one for one in self.where if not (one.field in values and one.how == "is"))
        more = tuple(Where(field=field, how="is", values=(value,)) for field, value in values.items())
        return self.model_copy(
            update={"where": (*kept, *more), "split": tuple(f for f in self.split if f not in values)}
        )

    def query(self) -> dict[str, Any]:
        """What an address holds of it; `where` may stand several times."""
        return {
            "measure": self.measure,
            "split": list(self.split),
            "where": [str(one) for one in self.where],
            "span": self.span,
            "picture": self.picture,
        }
