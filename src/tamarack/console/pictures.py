"""The pictures of traffic: from points of time to charts with words and links."""

from collections.abc import Sequence
from datetime import datetime, timedelta

from flask import url_for

from tamarack.store.watching import Totals
from tamarack.web.charts import Chart, Line, over_time
from tamarack.web.words import duration, number


def calls_chart(
    times: Sequence[datetime], points: Sequence[Totals], step: timedelta, *, width: int, height: int, where: str
) -> Chart:
    """Calls per second, stacked by how they ended; a point leads to its calls."""
    seconds = step.total_seconds()
    words = [
        f"{time:%d %b %H:%M} — {number(point.calls / seconds)} calls a second: {number(point.answered)} answered, "
        f"{number(point.refused)} refused, {number(point.failed)} failed"
        for time, point in zip(times, points, strict=True)
    ]
    hrefs = [
        url_for("traffic.calls", environment=where, first=time.isoformat(), last=(time + step).isoformat())
        for time in times
    ]
    lines = (
        Line("answered", "answered", [point.answered / seconds for point in points]),
        Line("refused", "refused", [point.refused / seconds for point in points]),
        Line("failed", "failed", [point.failed / seconds for point in points]),
    )
    return over_time(
        times, lines, width=width, height=height, stacked=True, words=words, hrefs=hrefs, label="Calls per second"
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
