"""Windows: how many calls in how long, written the way people say it ("60 per minute"), and how they are counted."""

import re
from fractions import Fraction
from math import ceil
from typing import Any, Literal

from pydantic import model_serializer, model_validator

from tamarack.core.types import Frozen

Algorithm = Literal["fixed", "sliding", "bucket"]

UNITS: dict[str, int] = {"second": 1, "minute": 60, "hour": 3600, "day": 86400}
_FORM = re.compile(
    r"^\s*([0-9][0-9_ ]*(?:\.[0-9]{1,6})?)\s*(?:per|/)\s*(?:([0-9]+)\s*)?(second|minute|hour|day)s?"
    r"(?:\s*,?\s*(?:(sliding)|burst\s+([0-9][0-9_ ]*)))?\s*$"
)
MOST = 1_000_000_000
LONGEST_SECONDS = 366 * 86400
MOST_BURST_SECONDS = 9_000_000_000
"""Burst times seconds: beyond it a bucket's level would no longer be exact where doubles count it."""


def shortened(count: int) -> str:
    """A count for a narrow place, never rounded: "400", "1.5 M", "100 k"."""
    for scale, letter in ((1_000_000, "M"), (1_000, "k")):
        if count >= 10 * scale // (10 if letter == "M" else 1) and count % (scale // 10) == 0:
            return f"{count / scale:g} {letter}"
    return str(count)


class Window(Frozen):
    """At most `limit` calls in `seconds`, by one of three algorithms.

    `fixed`: in each stretch, the stretches aligned to the epoch (UTC). `sliding`: in any stretch. `bucket`: a
    token bucket that holds `burst` calls and is refilled at the rate. Reads and writes as text: "60 per minute",
    "60 per minute, sliding", "5 per second, burst 20", "0.5 per second, burst 3".
    """

    limit: int
    seconds: int
    algorithm: Algorithm = "fixed"
    burst: int = 0

    @model_validator(mode="before")
    @classmethod
    def _from_text(cls, value: Any) -> Any:
        if not isinstance(value, str):
            return value
        found = _FORM.match(value)
        if found is None:
            raise ValueError(
                f"{value!r} is not a limit; write it like '60 per minute', '10 per 5 seconds', '60 per minute, sliding'"
                " or '5 per second, burst 20' (second, minute, hour or day)"
            )
        count, many, unit, sliding, burst = found.groups()
        limit = Fraction(count.replace("_", "").replace(" ", ""))
        seconds = int(many or 1) * UNITS[unit]
        if limit.denominator > 1:
            if not burst:
                raise ValueError(f"{value!r}: a limit with a fraction needs a burst, like '0.5 per second, burst 3'")
            limit, seconds = limit * limit.denominator, seconds * limit.denominator
        algorithm = "sliding" if sliding else "bucket" if burst else "fixed"
        return {
            "limit": int(limit),
            "seconds": seconds,
            "algorithm": algorithm,
            "burst": int((burst or "0").replace("_", "").replace(" ", "")),
        }

    @model_validator(mode="after")
    def _in_range(self) -> "Window":
        if not 1 <= self.limit <= MOST:
            raise ValueError(f"{self.limit} calls: a limit lets through at least 1 and at most {MOST:,}")
        if not 1 <= self.seconds <= LONGEST_SECONDS:
            raise ValueError(f"{self.seconds} seconds: a window lasts from 1 second to 366 days")
        if (self.algorithm == "bucket") is not (self.burst > 0):
            raise ValueError("a token bucket has a burst of at least 1, and nothing else has one")
        if self.burst * self.seconds > MOST_BURST_SECONDS:
            raise ValueError(f"burst {self.burst} over {self.seconds} seconds cannot be counted exactly; lower one")
        return self

    @model_serializer
    def _to_text(self) -> str:
        return str(self)

    def __str__(self) -> str:
        return f"{self.limit} per {self.span}" + self._suffix

    @property
    def _suffix(self) -> str:
        return {"fixed": "", "sliding": ", sliding", "bucket": f", burst {self.burst}"}[self.algorithm]

    @property
    def quota(self) -> int:
        """Calls that may come at once: what `q` says in the RateLimit-Policy field."""
        return self.burst or self.limit

    @property
    def period(self) -> int:
        """Seconds in which all of the quota comes back: what `w` says in the RateLimit-Policy field."""
        return ceil(Fraction(self.burst * self.seconds, self.limit)) if self.burst else self.seconds

    @property
    def brief(self) -> str:
        """The window for a narrow place: "60 / min", "100 k / day", "5 / s, burst 20"."""
        shown = shortened(self.limit)
        short = {"second": "s", "minute": "min", "hour": "h", "day": "day"}
        many, _, unit = self.span.rpartition(" ")
        return f"{shown} / {many + ' ' if many else ''}{short[unit.removesuffix('s')]}{self._suffix}"

    @property
    def span(self) -> str:
        """The window's length in words: "minute", "5 seconds"."""
        for unit, seconds in reversed(UNITS.items()):
            if self.seconds % seconds == 0:
                many = self.seconds // seconds
                return unit if many == 1 else f"{many} {unit}s"
        raise AssertionError("a second divides every whole number of seconds")


def distinct(windows: tuple[Window, ...]) -> tuple[Window, ...]:
    """Windows that hold side by side: of one length there is one. Raises ValueError, in words."""
    spans = [window.seconds for window in windows]
    twice = next((window for window in windows if spans.count(window.seconds) > 1), None)
    if twice is not None:
        raise ValueError(f"two limits last one {twice.span}; keep the tighter one")
    return windows


def _said(window: Window, count: str) -> str:
    one = window.span in UNITS
    if window.algorithm == "sliding":
        return f"{count} in any {window.span}"
    often = f"{count} {('an ' if window.span == 'hour' else 'a ') if one else 'in '}{window.span}"
    return often if window.algorithm == "fixed" else f"{often} with bursts of {window.burst:,}".replace(",", " ")


def _listed(parts: list[str]) -> str:
    return parts[0] if len(parts) == 1 else ", ".join(parts[:-1]) + " and " + parts[-1]


def in_words(windows: tuple[Window, ...]) -> str:
    """Windows as a list for a sentence: "60 times a minute and 1 000 times a day"."""
    counts = ["once" if one.limit == 1 else f"{one.limit:,} times".replace(",", " ") for one in windows]
    return _listed([_said(window, count) for window, count in zip(windows, counts, strict=True)])


def many_in_words(windows: tuple[Window, ...], of: str) -> str:
    """Windows of something that is counted: "20 000 tokens a minute and 500 000 tokens a day"."""
    return _listed([_said(window, f"{window.limit:,} {of}".replace(",", " ")) for window in windows])
