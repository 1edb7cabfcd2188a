"""Answering explorations: the groups over time, and the same groups earlier where the question compares."""

from dataclasses import dataclass, replace
from datetime import datetime, timedelta

from sqlalchemy import text
from sqlmodel import Session

from tamarack.core.traffic.explore import Exploration
from tamarack.core.traffic.fields import CALL_FIELDS, CLASSES, OUTCOMES
from tamarack.core.traffic.rollup import GRAINS
from tamarack.core.traffic.span import floored, raised
from tamarack.core.traffic.where import Where
from tamarack.store.traffic.reading import Group, Question, answer, within_reach

TABLE = ("refused", "failed", "total_us")
"""The totals that the table of an exploration shows whatever is measured."""
MOST_SUGGESTED = 40
RECENT = timedelta(days=1)
"""How far back the values of fields are looked for that roll-ups do not know."""


@dataclass(frozen=True, slots=True)
class Explored:
    """An exploration with its answer. `earlier` holds the same groups by key, `shift` earlier."""

    exploration: Exploration
    first: datetime
    last: datetime
    step: timedelta
    times: list[datetime]
    groups: list[Group]
    earlier: dict[tuple[str, ...] | None, Group] | None = None
    shift: timedelta = timedelta(0)
    begins: datetime | None = None
    """When the records begin, where that is within what is compared with: then it is not whole."""

    @property
    def seconds(self) -> float:
        """How long the span is."""
        return (self.last - self.first).total_seconds()


def explore(session: Session, exploration: Exploration, now: datetime) -> Explored:
    """Answer an exploration as of a moment."""
    first, last, step = exploration.times(now)
    measure = exploration.measured
    is_heat = exploration.picture == "heat map"
    histograms = {measure.histogram or "histogram"} if is_heat or measure.histogram else set()
    split = () if is_heat else exploration.split
    sums = (*TABLE, *measure.needs)
    question = Question(
        first, last, exploration.where, split, step, histograms=histograms, sums=sums, callers=measure.callers
    )
    found = answer(session, question)
    asked = found.question
    assert asked.step is not None
    shift = exploration.earlier(first, last)
    if shift is None:
        return Explored(exploration, asked.first, asked.last, asked.step, found.times, found.groups)
    before_asked = within_reach(session, replace(asked, first=asked.first - shift, last=asked.last - shift))
    if before_asked.step is not None and before_asked.step != asked.step:  # only coarser roll-ups are left of it
        grain = GRAINS[before_asked.finest]
        found = answer(session, replace(asked, first=floored(asked.first, grain), last=raised(asked.last, grain),
                                        step=before_asked.step, finest=before_asked.finest))  # fmt: skip
        asked = found.question
    keys = [group.key for group in found.groups if group.key is not None]
    before = answer(session, replace(before_asked, keys=keys))
    assert asked.step is not None
    earlier = {group.key: group for group in before.groups}
    begins = session.connection().execute(text("SELECT min(start) FROM rollup_hour")).scalar()
    if begins is not None and begins <= floored(before_asked.first, GRAINS["hour"]):
        begins = None
    return Explored(exploration, asked.first, asked.last, asked.step, found.times, found.groups, earlier, shift, begins)


def values_of(session: Session, field: str, beginning: str, where: tuple[Where, ...] = ()) -> list[str]:
    """Values that a field has in the traffic, those that begin or go on like what was typed; empty for none."""
    known = CALL_FIELDS[field]
    if field == "outcome":
        found = list(OUTCOMES)
    elif field == "class":
        found = list(CLASSES)
    elif known.rolled:
        query = (
            f"SELECT DISTINCT {known.column}::text AS value FROM rollup_key"  # noqa: S608 - a column of ours
            f" WHERE strpos(lower({known.column}::text), :typed) > 0 ORDER BY 1 LIMIT {MOST_SUGGESTED}"
        )
        found = [row.value for row in session.connection().execute(text(query), {"typed": beginning.lower()})]
    else:
        query = (
            f"SELECT value FROM (SELECT {known.column}::text AS value, count(*) AS many FROM (SELECT {known.column}"  # noqa: S608
            ' FROM "call" WHERE at > now() - :recent ORDER BY at DESC LIMIT 20000) AS recent GROUP BY 1) AS counted'
            f" WHERE strpos(lower(value), :typed) > 0 ORDER BY many DESC, value LIMIT {MOST_SUGGESTED}"
        )
        rows = session.connection().execute(text(query), {"typed": beginning.lower(), "recent": RECENT})
        found = [row.value for row in rows]
    return [value for value in found if beginning.lower() in value.lower()]
