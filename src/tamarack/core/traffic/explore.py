"""Explorations: one question of the traffic, in the fields' own words, that an address can hold.

A question is a measure, what it is split by, which calls it is about, of when, and how it is drawn. The rules are
here; what answers it is `store.traffic.reading`.
"""

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from functools import lru_cache
from typing import Any, Literal

from pydantic import Field, field_validator, model_validator

from tamarack.core.traffic.fields import CALL_FIELDS
from tamarack.core.traffic.span import AT_MOST_POINTS, STEPS, pictured, read_span, written
from tamarack.core.traffic.totals import Totals, share
from tamarack.core.traffic.where import Condition, Where
from tamarack.core.types import Frozen

MOST_SPLITS = 2
MOST_GROUPS = 8
"""Groups that are shown by themselves; all others together are `other`."""
OTHER = "other"
_ANY_TIME = datetime(2026, 1, 1, tzinfo=UTC)
"""How long a span is does not depend on when it is asked of."""

Unit = Literal["count", "rate", "share", "time", "bytes"]
Histograms = Literal["histogram", "backend_histogram", "gateway_histogram"]


@dataclass(frozen=True, slots=True)
class Measure:
    """Something that can be measured: its words, its unit, and its value over some calls in so many seconds.

    `adds` says whether the values of groups add up to that of all, so that they can be stacked.
    """

    title: str
    unit: Unit
    of: Callable[[Totals, float], float | None]
    adds: bool = False
    needs: tuple[str, ...] = ()
    """The totals that it is made of, besides the number of calls."""
    histogram: Histograms | None = None
    callers: bool = False
    """Whether it needs different callers counted."""


_TIMES: Mapping[str, tuple[str, Histograms]] = {
    "": ("answered within", "histogram"),
    "backend ": ("of the backend's answers within", "backend_histogram"),
    "gateway ": ("took the gateway", "gateway_histogram"),
}
_PERCENTILE = re.compile(r"^(backend |gateway )?p(\d{1,2}(?:\.\d{1,3})?)$")

_PLAIN: Mapping[str, Measure] = {
    "calls": Measure("calls", "count", lambda t, _: t.calls, adds=True),
    "rate": Measure("calls a second", "rate", lambda t, seconds: t.calls / seconds, adds=True),
    "refused": Measure("refused calls", "count", lambda t, _: t.refused, adds=True, needs=("refused",)),
    "failed": Measure("failed calls", "count", lambda t, _: t.failed, adds=True, needs=("failed",)),
    "error share": Measure(
        "share of refused and failed",
        "share",
        lambda t, _: share(t.refused + t.failed, t.calls),
        needs=("refused", "failed"),
    ),
    "refused share": Measure("share of refused", "share", lambda t, _: t.refused_share, needs=("refused",)),
    "failed share": Measure("share of failed", "share", lambda t, _: t.failed_share, needs=("failed",)),
    "callers": Measure("different callers", "count", lambda t, _: t.callers, callers=True),
    "cache ratio": Measure("share from the cache", "share", lambda t, _: t.cache_ratio, needs=("hits", "misses")),
    "min": Measure("shortest time to answer", "time", lambda t, _: t.min_us, needs=("min_us",)),
    "mean": Measure("mean time to answer", "time", lambda t, _: share(t.total_us, t.calls), needs=("total_us",)),
    "max": Measure("longest time to answer", "time", lambda t, _: t.max_us, needs=("max_us",)),
    "backend mean": Measure(
        "mean time of the backend", "time", lambda t, _: share(t.backend_us, t.asked), needs=("backend_us", "asked")
    ),
    "gateway mean": Measure(
        "mean time of the gateway",
        "time",
        lambda t, _: share(t.gateway_us, t.calls),
        needs=("total_us", "backend_us", "held_us"),
    ),
    "held": Measure("calls held for their turn", "count", lambda t, _: t.held, adds=True, needs=("held",)),
    "bytes": Measure("bytes answered", "bytes", lambda t, _: t.response_bytes, adds=True, needs=("response_bytes",)),
    "bytes received": Measure(
        "bytes received", "bytes", lambda t, _: t.request_bytes, adds=True, needs=("request_bytes",)
    ),
    "tokens": Measure(
        "tokens", "count", lambda t, _: t.tokens, adds=True, needs=("prompt_tokens", "completion_tokens")
    ),
    "prompt tokens": Measure(
        "prompt tokens", "count", lambda t, _: t.prompt_tokens, adds=True, needs=("prompt_tokens",)
    ),
    "completion tokens": Measure(
        "completion tokens", "count", lambda t, _: t.completion_tokens, adds=True, needs=("completion_tokens",)
    ),
    "cached tokens": Measure(
        "cached prompt tokens", "count", lambda t, _: t.cached_tokens, adds=True, needs=("cached_tokens",)
    ),
    "saved tokens": Measure("tokens saved", "count", lambda t, _: t.saved_tokens, adds=True, needs=("saved_tokens",)),
    "saved time": Measure("time saved", "time", lambda t, _: t.saved_us, adds=True, needs=("saved_us",)),
    "first piece": Measure(
        "mean time to the first piece", "time", lambda t, _: share(t.first_us, t.firsts), needs=("first_us", "firsts")
    ),
    "tokens a second": Measure(
        "completion tokens a second of an answer",
        "rate",
        lambda t, _: share(t.completion_tokens * 1_000_000, t.telling_us),
        needs=("completion_tokens", "telling_us"),
    ),
}


@lru_cache(maxsize=1000)
def measure(name: str) -> Measure:
    """A measure by its name; percentiles are any `p50`, `p99.9`, `backend p95`, `gateway p99`. Raises ValueError."""
    if name in _PLAIN:
        return _PLAIN[name]
    found = _PERCENTILE.match(name)
    if found is None or not float(found[2]) > 0:
        raise ValueError(f"{name!r} is not a measure; those are {', '.join(_PLAIN)}, and percentiles like p95 or p99.9")
    words, histogram = _TIMES[found[1] or ""]
    part = float(found[2]) / 100
    title = f"{found[2]} % {words}" if part != 0.5 else f"half {words}"
    return Measure(title, "time", lambda t, _: getattr(t, histogram).percentile(part), histogram=histogram)


MEASURES: Mapping[str, Measure] = {
    name: measure(name)
    for name in (*_PLAIN, "p50", "p75", "p90", "p95", "p99", "p99.9", "backend p50", "backend p95", "backend p99",
                 "gateway p50", "gateway p95", "gateway p99")
}  # fmt: skip
"""The measures that are offered; any other percentile may be named."""

SPLITS: Mapping[str, str] = {
    name: field.title for name, field in CALL_FIELDS.items() if field.kind == "text" or name in ("status", "rollout")
}
"""What calls may be split by, each with its words. Call ids are left out of what pages offer, not of the rules."""

PICTURES = ("area", "line", "bar", "heat map", "table")
Picture = Literal["area", "line", "bar", "heat map", "table"]

AGAINST: Mapping[str, timedelta | None] = {
    "before": None,
    "day": timedelta(days=1),
    "week": timedelta(days=7),
    "4 weeks": timedelta(days=28),
}
"""What a span may be compared with: the same length just before, or so much earlier."""


class Exploration(Frozen):
    """One question of the traffic."""

    measure: str = "calls"
    split: tuple[str, ...] = Field(default=(), max_length=MOST_SPLITS)
    where: tuple[Condition, ...] = Field(default=(), max_length=20)
    span: str = "day"
    """A name of `span.SPANS`, or two moments."""
    step: str = ""
    """How long its points are, by name; empty: chosen for the span."""
    against: str = ""
    """What it is compared with; empty: nothing."""
    picture: Picture = "area"

    @field_validator("measure")
    @classmethod
    def _measured(cls, name: str) -> str:
        measure(name)
        return name

    @field_validator("split")
    @classmethod
    def _fields(cls, split: tuple[str, ...]) -> tuple[str, ...]:
        wrong = next((field for field in split if field not in SPLITS), None)
        if wrong is not None:
            raise ValueError(f"{wrong!r} is nothing to split by; that are {', '.join(SPLITS)}")
        return tuple(dict.fromkeys(split))

    @field_validator("span")
    @classmethod
    def _spanned(cls, span: str) -> str:
        read_span(span, _ANY_TIME)
        return span

    @field_validator("against")
    @classmethod
    def _compared(cls, against: str) -> str:
        if against and against not in AGAINST:
            raise ValueError(f"{against!r} cannot be compared with; choose one of {', '.join(AGAINST)}")
        return against

    @model_validator(mode="after")
    def _few_enough(self) -> "Exploration":
        if self.step and self.step not in STEPS:
            raise ValueError(f"{self.step!r} is no step; those are {', '.join(STEPS)}")
        first, last = read_span(self.span, _ANY_TIME)
        if self.step and (last - first).total_seconds() / STEPS[self.step] > AT_MOST_POINTS:
            raise ValueError(
                f"a point each {self.step} makes more than {AT_MOST_POINTS:,} of this span; choose longer ones"
            )
        return self

    @property
    def measured(self) -> Measure:
        return measure(self.measure)

    @property
    def stacked(self) -> bool:
        """Whether its groups are drawn on each other: only what adds up may be."""
        return self.picture in ("area", "bar") and self.measured.adds

    @property
    def rolled(self) -> bool:
        """Whether roll-ups answer it; else single calls are read."""
        return all(one.rolled for one in self.where) and all(CALL_FIELDS[name].rolled for name in self.split)

    def times(self, now: datetime) -> tuple[datetime, datetime, timedelta]:
        """Its first and last moment, and how long its points are."""
        return pictured(self.span, now, self.step)

    def earlier(self, first: datetime, last: datetime) -> timedelta | None:
        """How much earlier the span is that it is compared with; None without one."""
        return (AGAINST[self.against] or last - first) if self.against else None

    def narrowed(self, values: Mapping[str, str]) -> "Exploration":
        """The same question of fewer calls: those with these values, and split by what is left."""
        kept = tuple(one for one in self.where if not (one.field in values and one.how == "is"))
        more = tuple(Where(field=field, how="is", values=(value,)) for field, value in values.items())
        return self.model_copy(
            update={"where": (*kept, *more), "split": tuple(f for f in self.split if f not in values)}
        )

    def within(self, first: datetime, last: datetime) -> "Exploration":
        """The same question of another span; its step is chosen anew."""
        return self.model_copy(update={"span": written(first, last), "step": ""})

    def query(self) -> dict[str, Any]:
        """What an address holds of it, without what is as ever; `where` may stand several times."""
        held: dict[str, Any] = {
            "measure": self.measure,
            "split": list(self.split),
            "where": [str(one) for one in self.where],
            "span": self.span,
            "picture": self.picture,
        }
        return held | {name: value for name in ("step", "against") if (value := getattr(self, name))}
