"""Pictures of numbers over time, as SVG made on the server: paths, axes and the values at each point.

Colours come from classes, so both themes and the content security policy hold. Every picture has a
read-out by pointer and arrow keys, and a table beside or behind it.
"""

import json
import math
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime

import numpy as np

from tamarack.core.traffic.histogram import PER_LOG, Histogram


@dataclass(frozen=True, slots=True)
class Line:
    """One line or layer: a label, the class that colours it, a value per point (None where there is none)."""

    label: str
    css: str
    values: Sequence[float | None]


@dataclass(frozen=True, slots=True)
class Tick:
    """A mark on an axis: its place in the picture, and its words."""

    at: float
    label: str


@dataclass(frozen=True, slots=True)
class Mark:
    """A stretch that stands out: from, to, the class that draws it, and its words."""

    first: float
    last: float
    css: str
    words: str


@dataclass(frozen=True, slots=True)
class Happened:
    """Something that happened from one moment to another, to be marked on a picture."""

    first: datetime
    last: datetime
    css: str
    words: str


@dataclass(frozen=True, slots=True)
class Chart:
    """A picture ready for its template."""

    width: int
    height: int
    plot_width: int
    plot_height: int
    paths: tuple[tuple[str, str], ...]
    """CSS class and path data."""
    rows: tuple[Tick, ...]
    columns: tuple[Tick, ...]
    points: str
    """JSON: for each point its place, its words and where it leads."""
    label: str
    marks: tuple[Mark, ...] = ()
    """Stretches that something is to be said of."""


def round_scale(value: float) -> tuple[float, int]:
    """Where an axis ends that holds a value, and in how many parts it is cut, each a round number."""
    if value <= 0:
        return 1.0, 5
    power = 10 ** math.floor(math.log10(value / 5))
    step = next(step * power for step in (1, 2, 2.5, 5, 10) if step * power >= value / 5 * 0.999)
    parts = math.ceil(value / step * 0.999)
    return step * parts, parts


def _time_ticks(times: Sequence[datetime], xs: Sequence[float]) -> tuple[Tick, ...]:
    if len(times) < 2:
        return ()
    span = times[-1] - times[0]
    for step in (300, 600, 900, 1800, 3600, 7200, 14400, 21600, 43200, 86400, 172800, 604800):
        if span.total_seconds() / step <= 8:
            break
    form = "%d %b" if step >= 86400 else "%H:%M"
    found = []
    scale = (xs[-1] - xs[0]) / span.total_seconds()
    first = int(times[0].timestamp())
    at = first - first % step + (step if first % step else 0)
    while at <= times[-1].timestamp():
        moment = datetime.fromtimestamp(at, UTC)
        shown = f"{moment:%d %b}" if step < 86400 and moment.hour == 0 and moment.minute == 0 else moment.strftime(form)
        found.append(Tick(round(xs[0] + (at - first) * scale, 1), shown))
        at += step
    return tuple(found)


def over_time(
    times: Sequence[datetime],
    lines: Sequence[Line],
    *,
    width: int,
    height: int,
    stacked: bool,
    words: Sequence[str],
    label: str,
    hrefs: Sequence[str] | None = None,
    unit: str = "",
    bars: bool = False,
    before: Sequence[Line] = (),
    happened: Sequence[Happened] = (),
) -> Chart:
    """Lines, bars, or layers stacked on each other, over evenly spaced times.

    `words` are the read-outs of the points; lines of `before` are drawn thin, never stacked. A point without a value
    is a gap.
    """
    plot_width, plot_height = width - 58, height - 24
    many = len(times)
    wide = plot_width / max(1, many)
    if bars:
        xs = [round((place + 0.5) * wide, 1) for place in range(many)]
    else:
        xs = [round(place * plot_width / max(1, many - 1), 1) for place in range(many)]
    single = [value for line in [*before, *([] if stacked else lines)] for value in line.values if value is not None]
    if stacked:
        single += [sum(line.values[place] or 0 for line in lines) for place in range(many)]
    top, parts = round_scale(max(single, default=0))

    def y(value: float) -> float:
        return round(plot_height - value / top * plot_height, 1)

    paths = []
    below = [0.0] * many
    for number, line in enumerate(lines):
        if bars:
            share = wide * 0.8 / (1 if stacked else len(lines))
            shift = 0.0 if stacked else number * share
            tops = [below[place] + (line.values[place] or 0) for place in range(many)]
            rects = [
                f"M{(place + 0.1) * wide + shift:.1f},{y(below[place])}V{y(tops[place])}h{share:.1f}V{y(below[place])}Z"
                for place in range(many)
                if line.values[place]
            ]
            paths.append((line.css, "".join(rects)))
            below = tops if stacked else below
        elif stacked:
            above = [below[place] + (line.values[place] or 0) for place in range(many)]
            upper = " ".join(f"{xs[place]},{y(above[place])}" for place in range(many))
            lower = " ".join(f"{xs[place]},{y(below[place])}" for place in reversed(range(many)))
            paths.append((line.css, f"M{upper} L{lower}Z" if many else ""))
            below = above
        else:
            paths.append((f"line {line.css}", _with_gaps([(xs[p], line.values[p]) for p in range(many)], y)))
    paths += [
        (f"line before {line.css}", _with_gaps([(xs[p], line.values[p]) for p in range(many)], y)) for line in before
    ]
    if unit == " ms" and top >= 2000:
        shown, unit = 1000.0, " s"
    elif unit == " ms" and top < 1:
        shown, unit = 0.001, " µs"
    else:
        shown = 1.0
    rows = tuple(
        Tick(y(top * part / parts), f"{_plain(top * part / parts / shown)}{unit}") for part in range(parts + 1)
    )
    return Chart(
        width, height, plot_width, plot_height, tuple(paths), rows, _time_ticks(times, xs),
        _points(times, xs, words, hrefs), label, _marks(happened, times, xs, plot_width),
    )  # fmt: skip


def _points(times: Sequence[datetime], xs: Sequence[float], words: Sequence[str], hrefs: Sequence[str] | None) -> str:
    return json.dumps(
        [
            {
                "x": xs[place],
                "t": f"{time:%Y-%m-%dT%H:%MZ}",
                "text": words[place],
                "href": hrefs[place] if hrefs else "",
            }
            for place, time in enumerate(times)
        ]
    )


def _marks(
    happened: Sequence[Happened], times: Sequence[datetime], xs: Sequence[float], width: float
) -> tuple[Mark, ...]:
    """The stretches that lie within the picture, in its places."""
    if len(times) < 2:
        return ()
    scale = (xs[-1] - xs[0]) / (times[-1] - times[0]).total_seconds()

    def x(at: datetime) -> float:
        return round(min(width, max(0.0, xs[0] + (at - times[0]).total_seconds() * scale)), 1)

    found = []
    for one in happened:
        if one.last >= times[0] and one.first <= times[-1] + (times[1] - times[0]):
            first, last = x(one.first), x(one.last)
            found.append(Mark(first, max(last, first + 2), one.css, one.words))
    return tuple(found)


HEAT_LEVELS = 6
_HEAT_ROWS = 24


def heat_map(
    times: Sequence[datetime],
    columns: Sequence[Histogram],
    *,
    width: int,
    height: int,
    words: Sequence[str],
    label: str,
    hrefs: Sequence[str] | None = None,
) -> Chart:
    """How often each time to answer was, over time: a cell is the darker the more calls it has.

    `columns` are one for each time.
    """
    plot_width, plot_height = width - 58, height - 24
    many = len(times)
    wide = plot_width / max(1, many)
    xs = [round((place + 0.5) * wide, 1) for place in range(many)]
    filled = [column.counts.nonzero()[0] for column in columns]
    lowest = min((int(buckets[0]) for buckets in filled if len(buckets)), default=0)
    highest = max((int(buckets[-1]) for buckets in filled if len(buckets)), default=1)
    each = max(1, -(-(highest - lowest + 1) // _HEAT_ROWS))
    many_rows = -(-(highest - lowest + 1) // each)
    tall = plot_height / many_rows
    cells = []
    for column in columns:
        counts = column.counts[lowest:]
        padded = np.zeros(many_rows * each, np.int64)
        padded[: len(counts)] = counts
        cells.append(padded.reshape(many_rows, each).sum(axis=1).tolist())
    most = max((count for mine in cells for count in mine), default=0) or 1
    levels: list[list[str]] = [[] for _ in range(HEAT_LEVELS)]
    for place, mine in enumerate(cells):
        for row, count in enumerate(mine):
            if count:
                level = min(HEAT_LEVELS - 1, int((count / most) ** 0.5 * HEAT_LEVELS))
                levels[level].append(
                    f"M{place * wide:.1f},{plot_height - (row + 1) * tall:.1f}h{wide:.1f}v{tall:.1f}h-{wide:.1f}Z"
                )
    paths = tuple((f"heat{level}", "".join(parts)) for level, parts in enumerate(levels) if parts)
    by_time = {time: (math.log(time) * PER_LOG - lowest + 1) / each for time in _ROUND_TIMES}
    within = [time for time, row in by_time.items() if 0 <= row <= many_rows]
    decades = [time for time in within if str(time)[0] == "1"]
    rows = tuple(
        Tick(round(plot_height - by_time[time] * tall, 1), _short_time(time))
        for time in (decades if len(decades) > 2 else within)
    )
    return Chart(
        width, height, plot_width, plot_height, paths, rows, _time_ticks(times, xs),
        _points(times, xs, words, hrefs), label,
    )  # fmt: skip


_ROUND_TIMES = [digit * 10**power for power in range(10) for digit in (1, 2, 5)]


def _short_time(microseconds: int) -> str:
    if microseconds >= 1_000_000:
        return f"{microseconds // 1_000_000} s"
    return f"{microseconds // 1000} ms" if microseconds >= 1000 else f"{microseconds} µs"


def _with_gaps(points: Sequence[tuple[float, float | None]], y: object) -> str:
    assert callable(y)
    parts, pen_up = [], True
    for x, value in points:
        if value is None:
            pen_up = True
            continue
        parts.append(f"{'M' if pen_up else 'L'}{x},{y(value)}")
        pen_up = False
    return " ".join(parts)


def _plain(value: float) -> str:
    for scale, letter in ((1e9, "G"), (1e6, "M"), (1e3, "k")):
        if value >= scale:
            return f"{value / scale:g}{letter}"
    return f"{value:g}" if value >= 0.01 or value == 0 else f"{value:.0e}"
