"""Windows: how many calls in how long, written the way people say it ("60 per minute")."""

import re
from typing import Any

from pydantic import model_serializer, model_validator

from tamarack.core.model import Frozen

UNITS: dict[str, int] = {"second": 1, "minute": 60, "hour": 3600, "day": 86400}
_FORM = re.compile(r"^\s*([0-9][0-9_ ]*)\s*(?:per|/)\s*(?:([0-9]+)\s*)?(second|minute|hour|day)s?\s*$")
MOST = 1_000_000_000
LONGEST_SECONDS = 366 * 86400


class Window(Frozen):
    """At most `limit` calls in each stretch of `seconds`, the stretches aligned to the epoch (UTC).

    Reads and writes as text: "60 per minute", "10 per 5 seconds".
    """

    limit: int
    seconds: int

    @model_validator(mode="before")
    @classmethod
    def _from_text(cls, value: Any) -> Any:
        if not isinstance(value, str):
            return value
        found = _FORM.match(value)
        if found is None:
            raise ValueError(
                f"{value!r} is not a limit; write it like '60 per minute' or '10 per 5 seconds'"
                " (second, minute, hour or day)"
            )
        count, many, unit = found.groups()
        return {
            "limit": int(count.replace("_", "").replace(" ", "")),
            "seconds": int(many or 1) * UNITS[unit],
        }

    @model_validator(mode="after")
    def _in_range(self) -> "Window":
        if not 1 <= self.limit <= MOST:
            raise ValueError(f"{self.limit} calls: a limit lets through at least 1 and at most {MOST:,}")
        if not 1 <= self.seconds <= LONGEST_SECONDS:
            raise ValueError(f"{self.seconds} seconds: a window lasts from 1 second to 366 days")
        return self

    @model_serializer
    def _to_text(self) -> str:
        return str(self)

    def __str__(self) -> str:
        return f"{self.limit} per {self.span}"

    @property
    def brief(self) -> str:
        """The window for a narrow place: "60 / min", "100 k / day"."""
        count = self.limit
        shown = f"{count // 1000} k" if count >= 10_000 and count % 1000 == 0 else str(count)
        short = {"second": "s", "minute": "min", "hour": "h", "day": "day"}
        many, _, unit = self.span.rpartition(" ")
        return f"{shown} / {many + ' ' if many else ''}{short[unit.removesuffix('s')]}"

    @property
    def span(self) -> str:
        """The window's length in words: "minute", "5 seconds"."""
        for unit, seconds in reversed(UNITS.items()):
            if self.seconds % seconds == 0:
                many = self.seconds // seconds
                return unit if many == 1 else f"{many} {unit}s"
        raise AssertionError("a second divides every whole number of seconds")


def in_words(windows: tuple[Window, ...]) -> str:
    """Windows as a list for a sentence: "60 times a minute and 1 000 times a day"."""
    parts = [
        f"{window.limit:,}".replace(",", " ") + f" times {'a ' if window.span in UNITS else 'in '}{window.span}"
        for window in windows
    ]
    parts = [part.replace(" a hour", " an hour") for part in parts]
    return parts[0] if len(parts) == 1 else ", ".join(parts[:-1]) + " and " + parts[-1]
