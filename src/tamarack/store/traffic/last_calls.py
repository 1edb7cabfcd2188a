"""Who calls a version, how often, and when last: from the roll-ups, to the minute where those are kept."""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import text
from sqlmodel import Session

from tamarack.core.traffic.rollup import GRAINS
from tamarack.store.columns import now
from tamarack.store.traffic import reading
from tamarack.store.traffic.overview import Span
from tamarack.store.traffic.reading import Question

LOOKS_BACK: Mapping[str, timedelta] = {
    "minute": timedelta(days=1),
    "ten_minutes": timedelta(days=7),
    "hour": timedelta(days=31),
    "six_hours": timedelta(days=100),
    "day": timedelta(days=1_200),
}
"""How far back each roll-up is read for a last call; finer ones would be many rows."""
MOST = 500


@dataclass(frozen=True, slots=True)
class Calling:
    """An application that called: how often in a span, how often it was refused, and when last."""

    organization: str
    """Empty, like the application, of calls that said nothing of their caller."""
    application: str
    calls: int
    refused: int
    last: datetime | None


def last_calls(session: Session, environment: str, api: str, version: str) -> dict[tuple[str, str], datetime]:
    """When each application called a version last: the start of the finest stretch that is kept of it."""
    parts = " UNION ALL ".join(
        f"SELECT key, max(start) AS start FROM rollup_{grain} WHERE start >= :{grain} GROUP BY key"  # noqa: S608
        for grain in GRAINS
    )
    query = (
        "SELECT organization, application, max(start) FROM rollup_key JOIN"  # noqa: S608
        f" ({parts}) AS r ON r.key = rollup_key.id"
        " WHERE environment = :environment AND api = :api AND version = :version GROUP BY 1, 2"
    )
    present = now()
    values = {grain: present - LOOKS_BACK[grain] for grain in GRAINS}
    found = session.connection().execute(text(query), values | {"environment": environment, "api": api,
                                                                 "version": version})  # fmt: skip
    return {(row[0], row[1]): row[2] for row in found}


def calling(session: Session, span: Span) -> list[Calling]:
    """Who called in a span (of one version in one environment), the busiest first."""
    asked = Question(
        span.first, span.last, span.where, ("organization", "application"), most=MOST, others=False, sums=("refused",)
    )
    last = last_calls(session, span.filters["environment"], span.filters["api"], span.filters["version"])
    found = []
    for group in reading.answer(session, asked).groups:
        assert group.key is not None
        organization, application = group.key
        total = group.total
        found.append(
            Calling(organization, application, total.calls, total.refused, last.get((organization, application)))
        )
    return found
