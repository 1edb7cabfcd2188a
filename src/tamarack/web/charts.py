"""Pictures of numbers over time, as SVG made on the server: paths, axes and the values at each point.

Colours come from classes, so both themes and the content security policy hold. Every picture has a
read-out by pointer and arrow keys, and a table beside or behind it.
"""

import json
import math
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta


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


def nice_top(value: float) -> float:
    """The next round number at or above a value: 1, 2, 2.5 or 5 times a power of ten."""
    if value <= 0:
        return 1.0
    power = 10 ** math.floor(math.log10(value))
    return float(next(step * power for step in (1, 2, 2.5, 5, 10) if step * power >= value * 0.999))


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
) -> Chart:
    """Lines, or layers stacked on each other, over evenly spaced times. `words` are the read-outs of the points."""
    plot_width, plot_height = width - 58, height - 24
    many = len(times)
    xs = [round(place * plot_width / max(1, many - 1), 1) for place in range(many)]
    if stacked:
        highest = max((sum(line.values[place] or 0 for line in lines) for place in range(many)), default=0)
    else:
        highest = max((value for line in lines for value in line.values if value is not None), default=0)
    top = nice_top(highest)

    def y(value: float) -> float:
        return round(plot_height - value / top * plot_height, 1)

    paths = []
    below = [0.0] * many
    for line in lines:
        if stacked:
            above = [below[place] + (line.values[place] or 0) for place in range(many)]
            upper = " ".join(f"{xs[place]},{y(above[place])}" for place in range(many))
            lower = " ".join(f"{xs[place]},{y(below[place])}" for place in reversed(range(many)))
            paths.append((line.css, f"M{upper} L{lower}Z" if many else ""))
            below = above
        else:
            paths.append((f"line {line.css}", _with_gaps([(xs[p], line.values[p]) for p in range(many)], y)))
    parts = 5 if f"{top:e}"[:3] in ("2.5", "5.0") else 4
    rows = tuple(Tick(y(top * part / parts), f"{_plain(top * part / parts)}{unit}") for part in range(parts + 1))
    points = [{"x": xs[place], "text": words[place], "href": hrefs[place] if hrefs else ""} for place in range(many)]
    return Chart(
        width, height, plot_width, plot_height, tuple(paths), rows, _time_ticks(times, xs),
        json.dumps(points), label,
    )  # fmt: skip


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
    if value >= 1000:
        return f"{value / 1000:g}k"
    return f"{value:g}" if value >= 0.01 or value == 0 else f"{value:.0e}"


def step_for(span: timedelta) -> timedelta:
    """How long each point of a picture of a span is, so that there are at most some two hundred."""
    for seconds in (60, 120, 300, 600, 1800, 3600, 7200, 21600, 86400):
        if span.total_seconds() / seconds <= 200:
            return timedelta(seconds=seconds)
    return timedelta(days=7)
