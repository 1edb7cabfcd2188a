"""Brown-outs: short stretches in which a version that ends answers 410, so that callers who heard nothing notice."""

import re
from datetime import UTC, datetime, timedelta
from itertools import pairwise
from typing import Any

from pydantic import model_serializer, model_validator

from tamarack.core.types import Frozen

LONGEST_MINUTES = 24 * 60
_FORM = re.compile(r"^\s*([0-9]{4}-[0-9]{2}-[0-9]{2})[ T]([0-9]{2}:[0-9]{2})Z?\s+for\s+([0-9]{1,5})\s+minutes?\s*$")


class BrownOut(Frozen):
    """A stretch from `at` (UTC) on. Reads and writes as text: "2027-02-03 09:00 for 15 minutes"."""

    at: datetime
    minutes: int

    @model_validator(mode="before")
    @classmethod
    def _from_text(cls, value: Any) -> Any:
        if not isinstance(value, str):
            return value
        found = _FORM.match(value)
        try:
            if found is None:
                raise ValueError
            at = datetime.strptime(f"{found[1]} {found[2]}", "%Y-%m-%d %H:%M").replace(tzinfo=UTC)
        except ValueError:
            wrong = f"{value[:60]!r} is not a brown-out; write it like '2027-02-03 09:00 for 15 minutes', in UTC"
            raise ValueError(wrong) from None
        return {"at": at, "minutes": int(found[3])}

    @model_validator(mode="after")
    def _in_range(self) -> "BrownOut":
        if self.at.tzinfo is None:
            raise ValueError(f"{self.at} says no time zone; write it in UTC")
        if not 1 <= self.minutes <= LONGEST_MINUTES:
            raise ValueError(f"{self.minutes} minutes: a brown-out lasts from 1 minute to a day ({LONGEST_MINUTES:,})")
        return self

    @model_serializer
    def _to_text(self) -> str:
        return str(self)

    def __str__(self) -> str:
        return f"{self.at.astimezone(UTC):%Y-%m-%d %H:%M} for {self.minutes} minute{'' if self.minutes == 1 else 's'}"

    @property
    def until(self) -> datetime:
        """When it is over."""
        return self.at + timedelta(minutes=self.minutes)

    @property
    def said(self) -> str:
        """The stretch as people read it: "3 February 2027, 09:00 to 09:15 UTC"."""
        at, until = self.at.astimezone(UTC), self.until.astimezone(UTC)
        later = f"{until:%H:%M}" if at.date() == until.date() else f"{until.day} {until:%B}, {until:%H:%M}"
        return f"{at.day} {at:%B %Y}, {at:%H:%M} to {later} UTC"


def apart(stretches: tuple[BrownOut, ...]) -> tuple[BrownOut, ...]:
    """Brown-outs in the order of time. Raises ValueError where two overlap."""
    ordered = sorted(stretches, key=lambda one: one.at)
    for before, after in pairwise(ordered):
        if after.at < before.until:
            raise ValueError(f"the brown-outs {before} and {after} overlap; move or shorten one")
    return tuple(ordered)


def still_to_come(stretches: tuple[BrownOut, ...], now: datetime) -> list[BrownOut]:
    """Those that are not over."""
    return [one for one in stretches if one.until > now]
