"""How long each stage took lately: the median of the newest calls, read within a bound of time."""

from datetime import timedelta
from statistics import median

from psycopg.errors import QueryCanceled
from sqlalchemy import text
from sqlalchemy.exc import OperationalError
from sqlmodel import Session

from tamarack.core.stages import Stage
from tamarack.core.traffic.record import TIMED
from tamarack.store.columns import now

MOST_CALLS = 500
LOOKS_BACK = timedelta(hours=1)
SECONDS = 1.5
"""How long it may take to find the calls: the page that shows this shows more than this."""


def stage_times(
    session: Session, environment: str, api: str, version: str, operation: str = ""
) -> tuple[dict[Stage, float], int]:
    """The median of each stage in nanoseconds, of calls that passed it, and of how many calls; nothing where it takes
    too long to find them."""
    query = (
        "SELECT stages_ns FROM call WHERE at >= :first AND environment = :environment AND api = :api"
        " AND version = :version AND (:operation = '' OR operation = :operation) AND stages_ns <> '{}'"
        " ORDER BY at DESC LIMIT :most"
    )
    values = {"first": now() - LOOKS_BACK, "environment": environment, "api": api, "version": version,
              "operation": operation, "most": MOST_CALLS}  # fmt: skip
    try:
        with session.begin_nested():
            session.connection().execute(text(f"SET LOCAL statement_timeout = {int(SECONDS * 1000)}"))
            rows = [row[0] for row in session.connection().execute(text(query), values)]
            session.connection().execute(text("SET LOCAL statement_timeout = 0"))
    except OperationalError as error:
        if isinstance(getattr(error, "orig", None), QueryCanceled):
            return {}, 0
        raise
    found = {}
    for place, stage in enumerate(TIMED):
        times = [row[place] for row in rows if place < len(row) and row[place] > 0]
        if times:
            found[stage] = float(median(times))
    return found, len(rows)
