"""Roll-ups: calls added up by stretch of time and by what they were, so that pages never read single calls."""

from collections.abc import Iterable, Mapping
from typing import NamedTuple

from tamarack.core.traffic.record import Record
from tamarack.core.traffic.totals import Totals

GRAINS: Mapping[str, int] = {"minute": 60, "ten_minutes": 600, "hour": 3600, "six_hours": 21_600, "day": 86_400}
"""The stretches that are kept, in seconds, each a multiple of the one before. Days are those of UTC.

Ten minutes and six hours are the points of the pictures of a day and of a month: without them each would add up ten or
six times as many rows.
"""


class Key(NamedTuple):
    """What calls have in common that are added up together."""

    environment: str
    api: str
    version: str
    operation: str
    status: int
    reason: str
    organization: str
    application: str
    plan: str
    target: str
    cache: str
    model: str


class Cell(NamedTuple):
    """One row of a roll-up: its stretch, by its start in seconds since the epoch, and its key."""

    grain: str
    start: int
    key: Key


def roll_up(records: Iterable[Record], grains: Iterable[str] = tuple(GRAINS)) -> dict[Cell, Totals]:
    """The totals of some records for each grain."""
    minutes: dict[tuple[int, Key], Totals] = {}
    for record in records:
        key = Key(
            record.environment,
            record.api,
            record.version,
            record.operation,
            record.status,
            record.reason,
            record.organization,
            record.application,
            record.plan,
            record.target,
            record.cache,
            record.model,
        )
        at = (record.at // 60_000_000 * 60, key)
        totals = minutes.get(at)
        if totals is None:
            totals = minutes[at] = Totals()
        totals.add(record)
    cells: dict[Cell, Totals] = {}
    for grain in grains:
        length = GRAINS[grain]
        if length == 60:
            cells |= {Cell(grain, start, key): totals for (start, key), totals in minutes.items()}
            continue
        for (start, key), totals in minutes.items():
            add_cell(cells, Cell(grain, start - start % length, key), totals)
    return cells


def add_cell(cells: dict[Cell, Totals], cell: Cell, more: Totals) -> None:
    """Add totals to those of a cell."""
    found = cells.get(cell)
    if found is None:
        found = cells[cell] = Totals()
    found.merge(more)
