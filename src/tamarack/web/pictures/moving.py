"""The picture of callers moving from one version to the next: calls of each, stacked, over time."""

from collections.abc import Sequence
from datetime import UTC, datetime, timedelta

from tamarack.store.traffic.reading import Group
from tamarack.web.pictures.charts import Chart, Line, over_time
from tamarack.web.pictures.traffic import minutes_passed
from tamarack.web.words import number, share


def moving_chart(
    times: Sequence[datetime],
    groups: Sequence[Group],
    versions: Sequence[str],
    step: timedelta,
    *,
    width: int,
    height: int,
) -> Chart:
    """Calls a minute by version, in the order of the versions, each with its share of all at each moment."""
    found = {group.key[0]: [point.calls for point in group.points] for group in groups if group.key is not None}
    begins = min((place for points in found.values() for place, many in enumerate(points) if many), default=0)
    begins = max(0, min(begins, len(times) - 2))  # what was before the first record is no part of the move
    times = times[begins:]
    found = {name: points[begins:] for name, points in found.items()}
    present = datetime.now(UTC)
    minutes = [minutes_passed(time, step, present) for time in times]
    words = []
    for place, time in enumerate(times):
        whole = sum(points[place] for points in found.values())
        parts = [
            f"version {name} {number(found[name][place])}"
            + (f" ({share(found[name][place] / whole)})" if whole else "")
            for name in versions
            if name in found
        ]
        form = "%d %b" if step >= timedelta(days=1) else "%d %b %H:%M"
        words.append(f"{time.strftime(form)} — calls of " + (", ".join(parts) or "no version"))
    lines = [
        Line(
            f"version {name}",
            f"g{place % 8}",
            [many / length for many, length in zip(found[name], minutes, strict=True)],
        )
        for place, name in enumerate(versions)
        if name in found
    ]
    return over_time(
        times, lines, width=width, height=height, stacked=True, words=words, label="Calls a minute, by version"
    )
