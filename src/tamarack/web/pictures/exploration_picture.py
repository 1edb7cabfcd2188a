"""An exploration as a picture and a table: the same on its own page, on boards and beside alerts."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime

from tamarack.core.traffic.explore import MEASURES, OTHER, Measure
from tamarack.core.traffic.totals import Totals
from tamarack.store.traffic.explorations import Explored
from tamarack.store.traffic.reading import Group
from tamarack.web.pictures.charts import Chart, Happened, Line, heat_map, over_time
from tamarack.web.pictures.traffic import minutes_passed
from tamarack.web.words import duration, number, share, size

Link = Callable[[datetime, datetime], str]


def shown(value: float | None, measure: Measure) -> str:
    """A value with its unit, as everywhere."""
    match measure.unit:
        case "time":
            return duration(value)
        case "share":
            return share(value)
        case "bytes":
            return size(value)
        case _:
            return number(value)


def name_of(group: Group) -> str:
    """What a group is called: its values, `other` for all others together."""
    if group.key is None:
        return OTHER
    return ", ".join(value or "none" for value in group.key) or "all calls"


_ENDS = {"2xx": "answered", "3xx": "moved", "4xx": "refused", "5xx": "failed"}


def css_of(explored: Explored, place: int) -> str:
    """The class that draws a group: how calls ended looks the same everywhere, other groups by their rank."""
    key = explored.groups[place].key
    if key and explored.exploration.split in (("outcome",), ("class",)):
        return _ENDS.get(key[0], key[0])
    return f"g{place}"


def lengths(explored: Explored, now: datetime) -> list[float]:
    """Seconds of each moment; the last is still running, and its rates are those of its part."""
    return [60 * minutes_passed(time, explored.step, now) for time in explored.times]


def _values(measure: Measure, points: Sequence[Totals], seconds: Sequence[float]) -> list[float | None]:
    return [measure.of(point, length) for point, length in zip(points, seconds, strict=False)]


def _scaled(values: Sequence[float | None], measure: Measure) -> list[float | None]:
    scale = 1000 if measure.unit == "time" else 0.01 if measure.unit == "share" else 1
    return [None if value is None else value / scale for value in values]


def picture(
    explored: Explored,
    *,
    width: int,
    height: int,
    link: Link | None = None,
    happened: Sequence[Happened] = (),
) -> Chart | None:
    """The picture of an exploration; None where it is to be a table. `link` says where a point leads."""
    exploration, times = explored.exploration, explored.times
    measure = exploration.measured
    hrefs = [link(time, time + explored.step) for time in times] if link is not None else None
    if exploration.picture == "table":
        return None
    if exploration.picture == "heat map":
        return _heat(explored, width, height, hrefs)
    seconds = lengths(explored, datetime.now(UTC))
    whole = [explored.step.total_seconds()] * len(times)
    values = {name_of(group): _values(measure, group.points, seconds) for group in explored.groups}
    words = [
        f"{time:%d %b %H:%M} — " + ", ".join(f"{name} {shown(found[place], measure)}" for name, found in values.items())
        for place, time in enumerate(times)
    ]
    lines = [
        Line(name, css_of(explored, place), _scaled(found, measure))
        for place, (name, found) in enumerate(values.items())
    ]
    before = []
    if explored.earlier is not None:
        for place, group in enumerate(explored.groups):
            earlier = explored.earlier.get(group.key)
            if earlier is not None and not exploration.stacked:
                found = _values(measure, earlier.points, whole)
                before.append(Line(f"{name_of(group)} earlier", css_of(explored, place), _scaled(found, measure)))
        if exploration.stacked:
            sums = [Totals() for _ in times]
            for group in explored.earlier.values():
                for total, point in zip(sums, group.points, strict=False):
                    total.merge(point)
            before.append(Line("earlier", "g5", _scaled(_values(measure, sums, whole), measure)))
        words = [
            text
            + (f"; earlier {shown(_of_all(explored, place, measure, whole[0]), measure)}" if place < len(times) else "")
            for place, text in enumerate(words)
        ]
    return over_time(
        times, lines, width=width, height=height, stacked=exploration.stacked, words=words, hrefs=hrefs,
        unit={"time": " ms", "share": " %"}.get(measure.unit, ""), label=measure.title.capitalize(),
        bars=exploration.picture == "bar", before=before, happened=happened,
    )  # fmt: skip


def _of_all(explored: Explored, place: int, measure: Measure, seconds: float) -> float | None:
    """The earlier value of all groups together at one moment."""
    total = Totals()
    for group in (explored.earlier or {}).values():
        if place < len(group.points):
            total.merge(group.points[place])
    return measure.of(total, seconds)


def _heat(explored: Explored, width: int, height: int, hrefs: Sequence[str] | None) -> Chart:
    kind = explored.exploration.measured.histogram or "histogram"
    points = explored.groups[0].points if explored.groups else [Totals() for _ in explored.times]
    columns = [getattr(point, kind) for point in points]
    words = [
        f"{time:%d %b %H:%M} — {number(column.total)} calls, half within {duration(column.percentile(0.5))},"
        f" 99 % within {duration(column.percentile(0.99))}"
        for time, column in zip(explored.times, columns, strict=True)
    ]
    title = {"histogram": "Time to answer", "backend_histogram": "Time of the backend",
             "gateway_histogram": "Time of the gateway"}[kind]  # fmt: skip
    return heat_map(
        explored.times, columns, width=width, height=height, words=words, label=title, hrefs=hrefs,
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class Row:
    """A group in the table: what draws it, its name and key, and its values in words."""

    css: str
    name: str
    key: tuple[str, ...] | None
    value: str
    calls: int
    error_share: str
    mean: str
    earlier: str = ""
    change: str = ""


def rows(explored: Explored) -> list[Row]:
    """The table of an exploration, the largest group first."""
    measure, seconds = explored.exploration.measured, explored.seconds
    found = []
    for place, group in enumerate(explored.groups):
        value = measure.of(group.total, seconds)
        earlier = None
        if explored.earlier is not None:
            before = explored.earlier.get(group.key)
            earlier = measure.of(before.total, seconds) if before is not None else None
        found.append(
            Row(
                css_of(explored, place),
                name_of(group),
                group.key,
                shown(value, measure),
                group.total.calls,
                shown(MEASURES["error share"].of(group.total, seconds), MEASURES["error share"]),
                shown(MEASURES["mean"].of(group.total, seconds), MEASURES["mean"]),
                shown(earlier, measure) if explored.earlier is not None else "",
                change(value, earlier, measure) if explored.earlier is not None and explored.begins is None else "",
            )
        )
    return found


def moments(explored: Explored) -> list[tuple[datetime, list[str]]]:
    """The values of each moment in words, group by group, the newest first: what the picture draws, as a table."""
    measure, seconds = explored.exploration.measured, lengths(explored, datetime.now(UTC))
    found = [
        (time, [shown(measure.of(group.points[place], seconds[place]), measure) for group in explored.groups])
        for place, time in enumerate(explored.times)
    ]
    return found[::-1]


def change(value: float | None, earlier: float | None, measure: Measure) -> str:
    """How a value changed, in words: percent, or points where it is a share itself."""
    if value is None or earlier is None:
        return "–"
    if measure.unit == "share":
        points = (value - earlier) * 100
        return "same" if abs(points) < 0.05 else f"{points:+.1f} points"
    if earlier == 0:
        return "same" if value == 0 else "new"
    percent = (value / earlier - 1) * 100
    return "same" if abs(percent) < 0.5 else f"{percent:+.0f} %"
