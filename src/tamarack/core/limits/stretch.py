"""Stretches of a quota: days, weeks and months, by the calendar of a time zone or counted from a start.

Every moment is in exactly one stretch of a quota, and each begins where the one before ends.
"""

from __future__ import annotations

import calendar
from datetime import UTC, datetime, timedelta
from functools import lru_cache
from typing import Literal, NamedTuple
from zoneinfo import ZoneInfo

Period = Literal["day", "week", "month"]
Algorithm = Literal["stretch"]


class Stretch(NamedTuple):
    """One stretch of a quota, and what it lets through. Seconds since the epoch; `end` is the next one's start."""

    limit: int
    start: int
    end: int
    period: Period
    soft: bool = False
    """Whether calls beyond it are let through, and marked."""

    algorithm: Algorithm = "stretch"
    burst: int = 0

    @property
    def seconds(self) -> int:
        """Its length."""
        return self.end - self.start

    @property
    def quota(self) -> int:
        """What `q` says in the RateLimit-Policy field."""
        return self.limit

    @property
    def span(self) -> str:
        """Its length in words."""
        return self.period

    def __str__(self) -> str:
        return f"{self.limit} per {self.period}"


@lru_cache(maxsize=64)
def zone(name: str) -> ZoneInfo:
    """A time zone of the IANA database. Raises ValueError, in words."""
    try:
        return ZoneInfo(name)
    except (KeyError, ValueError, OSError) as error:
        raise ValueError(f"{name!r} is no time zone; give one of the IANA database, like Europe/Oslo or UTC") from error


def calendar_stretch(period: Period, time_zone: str, now: float) -> tuple[int, int]:
    """The calendar's day, week (from Monday) or month around a moment: its start and end."""
    place = zone(time_zone)
    here = datetime.fromtimestamp(now, place)
    start = here.replace(hour=0, minute=0, second=0, microsecond=0, fold=0)
    if period == "week":
        start -= timedelta(days=start.weekday())
        end = start + timedelta(days=7)
    elif period == "month":
        start = start.replace(day=1)
        end = start.replace(year=start.year + start.month // 12, month=start.month % 12 + 1)
    else:
        end = start + timedelta(days=1)
    return int(start.timestamp()), int(end.timestamp())


def _months_after(anchor: datetime, months: int) -> datetime:
    year, month = divmod(anchor.year * 12 + anchor.month - 1 + months, 12)
    day = min(anchor.day, calendar.monthrange(year, month + 1)[1])
    return anchor.replace(year=year, month=month + 1, day=day)


def anchored_stretch(period: Period, anchor: float, now: float) -> tuple[int, int]:
    """The day, week or month around a moment, counted from a start: its start and end.

    Days are of 24 hours. A month ends on the day of the month that the start fell on, or on the last day of
    a month that is too short for it.
    """
    first = int(anchor)
    if period != "month":
        length = 86_400 if period == "day" else 7 * 86_400
        start = first + (int(now) - first) // length * length
        return start, start + length
    began = datetime.fromtimestamp(first, UTC)
    here = datetime.fromtimestamp(int(now), UTC)
    months = (here.year - began.year) * 12 + here.month - began.month
    if _months_after(began, months) > here:
        months -= 1
    return int(_months_after(began, months).timestamp()), int(_months_after(began, months + 1).timestamp())
