"""Who calls a version, how often, and when last: from the roll-ups, to the minute where those are kept."""

from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import text
from sqlmodel import Session

from tamarack.store.columns import now
from tamarack.store.traffic import reading
from tamarack.store.traffic.overview import Span
from tamarack.store.traffic.reading import Question

LOOKS_BACK = timedelta(days=1_200)
"""How far back a last call is looked for."""
FINER = 8
"""The latest days of last calls that are looked into to the minute; of earlier ones the day says enough."""
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
    """When each application called a version last: to the minute, or to the hour or the day where that is all that is
    kept, or long ago."""
    found = session.connection().execute(
        text(
            "SELECT id, organization, application FROM rollup_key"
            " WHERE environment = :environment AND api = :api AND version = :version"
        ),
        {"environment": environment, "api": api, "version": version},
    )
    who = {row[0]: (row[1], row[2]) for row in found}
    if not who:
        return {}
    present = now()
    last: dict[tuple[str, str], datetime] = {}
    keys: dict[tuple[str, str], list[int]] = {}
    for key, caller in who.items():
        keys.setdefault(caller, []).append(key)
    for key, start in _newest(session, "day", list(who), present - LOOKS_BACK, present + timedelta(days=1)):
        last[who[key]] = max(start, last.get(who[key], start))
    for day in sorted(set(last.values()), reverse=True)[:FINER]:
        callers = [caller for caller, at in last.items() if at == day]
        wanted = [key for caller in callers for key in keys[caller]]
        for grain in ("hour", "minute"):
            for key, start in _newest(session, grain, wanted, day, day + timedelta(days=1)):
                last[who[key]] = max(start, last[who[key]])
    return last


def _newest(
    session: Session, grain: str, keys: list[int], first: datetime, last: datetime
) -> list[tuple[int, datetime]]:
    """The newest stretch of each key within a span, in the roll-ups of one grain."""
    query = (
        f"SELECT key, max(start) FROM rollup_{grain}"  # noqa: S608 - the grain is one of this module's
        " WHERE start >= :first AND start < :last AND key = ANY(:keys) GROUP BY key"
    )
    rows = session.connection().execute(text(query), {"first": first, "last": last, "keys": keys})
    return [(row[0], row[1]) for row in rows]


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
