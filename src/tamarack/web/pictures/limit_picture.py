"""The picture of a limit at work, as SVG made on the server: what is left over time, and what became of the calls.

Below the line of what is left stand three strips, so that colour is not needed to tell them apart: calls let in at
once, calls held, calls refused; the higher a bar, the more of them.
"""

import json
from collections.abc import Sequence
from dataclasses import dataclass

from tamarack.core.limits.simulate import Simulated
from tamarack.core.limits.window import Window
from tamarack.web.pictures.charts import Tick, round_scale

WIDTH, PLOT_HEIGHT, STRIP_HEIGHT = 860, 190, 26
PLOT_WIDTH = WIDTH - 62
COLUMNS = PLOT_WIDTH // 3
"""Bars of a strip, and places where the picture is read out."""
SAMPLES = 3 * (COLUMNS - 1) + 1
"""Points of the line of what is left: three for each column."""
STRIPS = (("admitted", "let in", "answered"), ("held", "held", "moved"), ("refused", "refused", "refused"))
_STEPS = (1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 14_400)
"""Seconds between two marks of the time."""
_LINES = ("p50", "p95", "p99", "p50", "p95", "p99")


@dataclass(frozen=True, slots=True)
class Strip:
    """A row of bars: its words, where it stands, the class of its bars, and them as one path."""

    words: str
    y: float
    css: str
    path: str
    many: int


@dataclass(frozen=True, slots=True)
class LimitPicture:
    """The picture, ready for its template."""

    width: int
    height: int
    plot_width: int
    plot_height: int
    lines: tuple[tuple[str, str, str], ...]
    """For each window: its words, the class of its line, and the path."""
    rows: tuple[Tick, ...]
    columns: tuple[Tick, ...]
    strips: tuple[Strip, ...]
    points: str
    label: str


def moments(first: int, last: int) -> list[int]:
    """The moments, in microseconds, at which the level is wanted: one for each point of the line."""
    span = max(1, last - first)
    return [first + span * place // (SAMPLES - 1) for place in range(SAMPLES)]


def draw_limit(windows: Sequence[Window], result: Simulated, first: int, last: int) -> LimitPicture:
    """Draw what a simulation found between two moments."""
    span = max(1, last - first)
    several = len(windows) > 1
    tops = [float(window.quota) for window in windows]
    top, parts = (100.0, 4) if several else round_scale(max(tops))
    width = PLOT_WIDTH / (COLUMNS - 1)
    paths = []
    for place, window in enumerate(windows):
        scale = 100 / tops[place] if several else 1.0
        heights = [max(0.0, level[place]) * scale for _, level in result.levels]
        path = " ".join(
            f"{'L' if number else 'M'}{number * width / 3:.1f},{PLOT_HEIGHT - height / top * PLOT_HEIGHT:.1f}"
            for number, height in enumerate(heights)
        )
        paths.append((str(window), _LINES[place], path))
    counts: dict[str, list[int]] = {outcome: [0] * COLUMNS for outcome, _, _ in STRIPS}
    held_us = [0] * COLUMNS
    for call in result.calls:
        column = min(COLUMNS - 1, max(0, round((call.at - first) * (COLUMNS - 1) / span)))
        counts[call.outcome][column] += 1
        if call.outcome == "held":
            held_us[column] = max(held_us[column], call.decided - call.at)
    highest = max(1, *(many for column in counts.values() for many in column))
    strips = []
    for number, (outcome, words, css) in enumerate(STRIPS):
        bottom = PLOT_HEIGHT + 30 + (number + 1) * STRIP_HEIGHT
        bars = []
        for column, many in enumerate(counts[outcome]):
            if many:
                height = max(3.0, many / highest * (STRIP_HEIGHT - 6))
                bars.append(f"M{column * width - 1:.1f},{bottom}v{-height:.1f}h2v{height:.1f}z")
        strips.append(Strip(words, bottom, css, "".join(bars), sum(counts[outcome])))
    points = []
    for column, (at, level) in enumerate(result.levels[::3]):
        said = ", ".join(f"{max(0.0, left):.3g} of {window}" for left, window in zip(level, windows, strict=True))
        outcomes = ", ".join(
            f"{counts[outcome][column]} {words}" for outcome, words, _ in STRIPS if counts[outcome][column]
        )
        waited = f" for up to {held_us[column] / 1000:.0f} ms" if held_us[column] else ""
        text = f"{_seconds(at - first)} — left: {said}" + (f"; {outcomes}{waited}" if outcomes else "")
        points.append({"x": round(column * width, 1), "text": text, "href": ""})
    rows = tuple(
        Tick(round(PLOT_HEIGHT - PLOT_HEIGHT * part / parts, 1), f"{top * part / parts:g}{' %' if several else ''}")
        for part in range(parts + 1)
    )
    step = next((one for one in _STEPS if one * 10 * 1_000_000 >= span), _STEPS[-1])
    columns = tuple(
        Tick(round(number * step * 1_000_000 / span * PLOT_WIDTH, 1), _seconds(int(number * step * 1_000_000)))
        for number in range(int(span / 1_000_000 / step) + 1)
    )
    label = "What is left of the limit over time, and what became of the calls"
    height = PLOT_HEIGHT + 34 + len(STRIPS) * STRIP_HEIGHT
    return LimitPicture(
        WIDTH, height, PLOT_WIDTH, PLOT_HEIGHT, tuple(paths), rows, columns, tuple(strips), json.dumps(points), label
    )


def _seconds(microseconds: int) -> str:
    seconds = microseconds / 1_000_000
    if seconds >= 7200:
        return f"{seconds / 3600:.3g} h"
    return f"{seconds / 60:.3g} min" if seconds >= 180 else f"{seconds:.3g} s"
