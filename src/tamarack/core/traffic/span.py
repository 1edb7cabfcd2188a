"""Spans of time, and which roll-ups answer for them."""

from collections.abc import Mapping
from datetime import UTC, datetime, timedelta
from typing import NamedTuple

from tamarack.core.traffic.rollup import GRAINS

SPANS: Mapping[str, timedelta] = {
    "hour": timedelta(hours=1),
    "6 hours": timedelta(hours=6),
    "day": timedelta(days=1),
    "week": timedelta(days=7),
    "month": timedelta(days=30),
}
"""The spans up to now that have a name."""

STEPS: Mapping[str, int] = {
    "minute": 60,
    "2 minutes": 120,
    "5 minutes": 300,
    "10 minutes": 600,
    "30 minutes": 1800,
    "hour": 3600,
    "2 hours": 7200,
    "6 hours": 21_600,
    "day": 86_400,
    "week": 604_800,
}
"""How long the points of a picture may be, in seconds."""
MOST_POINTS = 200
"""Points of a picture whose steps were chosen for it."""
AT_MOST_POINTS = 1500
LONGEST = timedelta(days=3 * 366)

_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)


class Piece(NamedTuple):
    """A stretch that the roll-ups of one grain answer for."""

    grain: str
    first: datetime
    last: datetime


def _seconds(at: datetime) -> int:
    return int(at.timestamp())


def _moment(seconds: int) -> datetime:
    return datetime.fromtimestamp(seconds, UTC)


def floored(at: datetime, seconds: int) -> datetime:
    """The last whole stretch's start at or before a moment, counted from the epoch."""
    return _moment(_seconds(at) // seconds * seconds)


def raised(at: datetime, seconds: int) -> datetime:
    """The first whole stretch's start at or after a moment."""
    return _EPOCH + timedelta(seconds=-((_EPOCH - at) // timedelta(seconds=seconds)) * seconds)


def step_for(length: timedelta) -> timedelta:
    """How long each point of a picture of a span is, so that there are at most some two hundred."""
    for seconds in STEPS.values():
        if length.total_seconds() / seconds <= MOST_POINTS:
            return timedelta(seconds=seconds)
    return timedelta(weeks=1)


def up_to(now: datetime, length: timedelta) -> tuple[datetime, datetime]:
    """The stretch up to the end of this minute; of two days and longer, of this hour, which hourly roll-ups answer."""
    last = now.astimezone(UTC).replace(second=0, microsecond=0) + timedelta(minutes=1)
    if length >= timedelta(days=2):
        last = last.replace(minute=0) + timedelta(hours=1)
    return last - length, last


def read_span(text: str, now: datetime) -> tuple[datetime, datetime]:
    """The stretch that a text names: one of `SPANS` up to now, or two moments with a stroke between (ISO 8601, 4.4).

    Moments without a zone are UTC's, and are widened to whole minutes. Raises ValueError with the mend.
    """
    if text in SPANS:
        return up_to(now, SPANS[text])
    parts = text.split("/")
    try:
        first, last = (datetime.fromisoformat(part.strip()) for part in parts)
    except ValueError:
        raise ValueError(
            f"{text!r} is not a span; those are {', '.join(SPANS)}, or two moments like"
            " 2026-11-20T14:00/2026-11-20T18:00"
        ) from None
    first, last = (at.replace(tzinfo=UTC) if at.tzinfo is None else at.astimezone(UTC) for at in (first, last))
    first, last = floored(first, 60), raised(last, 60)
    if last <= first:
        raise ValueError(f"{text!r} ends before it begins; put the earlier moment first")
    if last - first > LONGEST:
        raise ValueError(f"{text!r} is longer than three years; ask for less")
    return first, last


def pictured(text: str, now: datetime, step_name: str = "") -> tuple[datetime, datetime, timedelta]:
    """The first and last moment of a picture of a span, and how long its points are.

    A named span keeps its length and ends with the point that is running; the points of a free one, where they are
    of an hour or more, begin with whole hours or days. Raises ValueError.
    """
    first, last = read_span(text, now)
    step = timedelta(seconds=STEPS[step_name]) if step_name else step_for(last - first)
    whole = min(int(step.total_seconds()), 86_400)
    if text in SPANS:
        last = raised(now.astimezone(UTC), whole)
        return last - SPANS[text], last, step
    if whole >= 3600:
        first, last = floored(first, whole), raised(last, whole)
    return first, last, step


def written(first: datetime, last: datetime) -> str:
    """Two moments as `read_span` reads them."""
    return f"{first.astimezone(UTC):%Y-%m-%dT%H:%MZ}/{last.astimezone(UTC):%Y-%m-%dT%H:%MZ}"


def widened(first: datetime, last: datetime, grain: str) -> tuple[datetime, datetime]:
    """A span made of whole stretches of a grain: what can be answered where finer roll-ups are no longer kept."""
    return floored(first, GRAINS[grain]), raised(last, GRAINS[grain])


def cover(first: datetime, last: datetime, step: timedelta | None = None, finest: str = "minute") -> list[Piece]:
    """Which roll-ups answer for a span, the coarsest that do: each moment of it in exactly one piece, in order.

    With a `step`, no row of a piece reaches over the border of two steps, counted from `first`. A span that does not
    begin or end with a whole stretch of the `finest` grain is not answered exactly, and refused (ValueError).
    """
    grains = [grain for grain in GRAINS if GRAINS[grain] >= GRAINS[finest]]
    if _seconds(first) % GRAINS[finest] or _seconds(last) % GRAINS[finest]:
        raise ValueError(f"{written(first, last)} is not made of whole {finest}s")
    if step is not None:
        seconds = int(step.total_seconds())
        grains = [
            grain
            for grain in grains
            if grain == finest or (seconds % GRAINS[grain] == 0 and _seconds(first) % GRAINS[grain] == 0)
        ]
    return _cover(_seconds(first), _seconds(last), grains[::-1])


def _cover(first: int, last: int, grains: list[str]) -> list[Piece]:
    if first >= last:
        return []
    length = GRAINS[grains[0]]
    inner_first, inner_last = -(-first // length) * length, last // length * length
    if inner_first >= inner_last:
        return _cover(first, last, grains[1:])
    middle = Piece(grains[0], _moment(inner_first), _moment(inner_last))
    return [*_cover(first, inner_first, grains[1:]), middle, *_cover(inner_last, last, grains[1:])]
