"""The pictures of traffic: from points of time to charts with words and links."""

from collections.abc import Callable, Sequence
from datetime import UTC, datetime, timedelta

from tamarack.core.traffic.totals import Totals
from tamarack.store.alerts.queries import Raised
from tamarack.web.pictures.charts import Chart, Happened, Line, over_time
from tamarack.web.words import duration, number

ENDS = (("answered", "answered"), ("refused", "refused"), ("failed", "failed"))
CLASSES = (("2xx", "answered"), ("3xx", "moved"), ("4xx", "refused"), ("5xx", "failed"))
"""The layers of the picture of calls, with the class that colours each."""


def happened(raised: Sequence[Raised], where: str, last: datetime) -> list[Happened]:
    """The stretches in which alerts of an environment were raised, for a picture that ends with `last`."""
    return [
        Happened(one.first, one.last or last, "firing", f"{one.title}: raised at {one.first:%d %b %H:%M}"
                 + (f", over at {one.last:%d %b %H:%M}" if one.last is not None else ", still is"))
        for one in raised
        if one.environment == where
    ]  # fmt: skip


def minutes_passed(start: datetime, step: timedelta, present: datetime) -> float:
    """How much of a point's time has passed: the last one is still running, and its rate is that of its part."""
    passed = min(step, max(present - start, timedelta(seconds=20)))
    return passed.total_seconds() / 60


def calls_chart(
    times: Sequence[datetime],
    points: Sequence[Totals],
    step: timedelta,
    *,
    width: int,
    height: int,
    link: Callable[[datetime, datetime], str] | None = None,
    by: str = "end",
    happened: Sequence[Happened] = (),
) -> Chart:
    """Calls per minute, stacked by how they ended or by status class; `link` says where a point's stretch leads."""
    present = datetime.now(UTC)
    minutes = [minutes_passed(time, step, present) for time in times]
    layers = CLASSES if by == "class" else ENDS
    counts = [point.classes if by == "class" else (point.answered, point.refused, point.failed) for point in points]
    words = [
        f"{time:%d %b %H:%M} — {number(point.calls / many_minutes)} calls a minute: "
        + ", ".join(f"{number(many)} {label}" for many, (label, _) in zip(split, layers, strict=True))
        for time, point, split, many_minutes in zip(times, points, counts, minutes, strict=True)
    ]
    hrefs = [link(time, time + step) for time in times] if link is not None else None
    lines = [
        Line(label, css, [split[place] / length for split, length in zip(counts, minutes, strict=True)])
        for place, (label, css) in enumerate(layers)
    ]
    return over_time(
        times,
        lines,
        width=width,
        height=height,
        stacked=True,
        words=words,
        hrefs=hrefs,
        label="Calls per minute",
        happened=happened,
    )


def latency_chart(times: Sequence[datetime], points: Sequence[Totals], *, width: int, height: int) -> Chart:
    """The time to answer that half, 95 and 99 of 100 calls did not exceed, in milliseconds."""
    shares = (("half", "p50", 0.5), ("95 %", "p95", 0.95), ("99 %", "p99", 0.99))
    values = {label: [point.percentile(share) for point in points] for label, _, share in shares}
    words = [
        f"{time:%d %b %H:%M} — " + ", ".join(f"{label} within {duration(values[label][place])}" for label in values)
        for place, time in enumerate(times)
    ]
    lines = [
        Line(label, css, [None if value is None else value / 1000 for value in values[label]])
        for label, css, _ in shares
    ]
    return over_time(times, lines, width=width, height=height, stacked=False, words=words, label="Time to answer in ms")
