"""How much callers called at their busiest, and when their calls came; from the roll-ups where they are fine enough."""

from collections.abc import Collection
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

from sqlalchemy import text
from sqlmodel import Session

from tamarack.core.limits.window import Window
from tamarack.store.columns import now

_MINUTES = "rollup_minute AS r JOIN rollup_key AS k ON k.id = r.key"
RECENT = timedelta(days=7)
"""How far back a peak is looked for, in the roll-ups per minute."""
RECENT_CALLS = timedelta(days=1)
"""How far back in single calls, for windows of less than a minute."""


@dataclass(frozen=True, slots=True)
class Peak:
    """The most calls of one caller in one aligned stretch, and when that was. No application: all callers together."""

    organization: str
    application: str
    calls: int
    at: datetime


def peaks(
    session: Session,
    environment: str,
    seconds: int,
    operations: Collection[tuple[str, str, str]] | None = None,
    plan: str = "",
    together: bool = False,
    more_than: int = 0,
    most: int = 50,
    api: str = "",
    call: str = "",
) -> list[Peak]:
    """Each caller's busiest stretch of some seconds lately, the busiest caller first.

    `operations` (API, version, call), `plan` (`product/plan`), or an API and one of its calls narrow what counts;
    `together` adds up all callers.
    """
    fine = seconds < 60 or seconds % 60
    since = now() - (RECENT_CALLS if fine else RECENT)
    table, moment, many = ('"call"', "at", "count(*)") if fine else (_MINUTES, "start", "sum(calls)")
    where = [f"{moment} >= :since", "environment = :environment"]
    values: dict[str, Any] = {"since": since, "environment": environment, "seconds": seconds, "more": more_than,
                              "most": most}  # fmt: skip
    if plan:
        where.append("plan = :plan")
        values["plan"] = plan
    for name, value in (("api", api), ("operation", call)):
        if value:
            where.append(f"{name} = :{name}")
            values[name] = value
    if not together:
        where.append("application <> ''")
    if operations is not None:
        apis, versions, calls = zip(*sorted(operations), strict=True) if operations else ((), (), ())
        where.append(
            "(api, version, operation) IN (SELECT * FROM unnest(CAST(:apis AS text[]), CAST(:versions AS text[]),"
            " CAST(:calls AS text[])))"
        )
        values |= {"apis": list(apis), "versions": list(versions), "calls": list(calls)}
    who = "'' AS organization, '' AS application" if together else "organization, application"
    query = (
        f"SELECT DISTINCT ON (organization, application) organization, application, calls, stretch FROM ("  # noqa: S608
        f"  SELECT {who}, floor(extract(epoch FROM {moment}) / :seconds) AS stretch, {many} AS calls"
        f"  FROM {table} WHERE {' AND '.join(where)} GROUP BY 1, 2, 3"
        ") AS stretches WHERE calls > :more ORDER BY organization, application, calls DESC, stretch DESC"
    )
    query = f"SELECT * FROM ({query}) AS highest ORDER BY calls DESC, organization, application LIMIT :most"  # noqa: S608
    return [
        Peak(
            row.organization, row.application, int(row.calls), datetime.fromtimestamp(float(row.stretch) * seconds, UTC)
        )
        for row in session.connection().execute(text(query), values)
    ]


def peak_window(window: Window) -> tuple[int, int]:
    """The stretch to look for a window's peak in, in seconds, and the most calls it lets through in one."""
    if window.algorithm == "bucket":
        seconds = max(1, min(60, window.period))
        return seconds, window.burst + seconds * window.limit // window.seconds
    return window.seconds, window.limit


def arrivals(
    session: Session,
    environment: str,
    organization: str,
    application: str,
    first: datetime,
    last: datetime,
    api: str = "",
    most: int = 1_000_000,
) -> list[int]:
    """When an application's calls came, refused ones too: microseconds since the epoch, in order."""
    query = (
        'SELECT CAST(extract(epoch FROM at) * 1000000 AS bigint) AS us FROM "call" WHERE environment = :environment'
        " AND organization = :organization AND application = :application AND at >= :first AND at < :last"
        " AND (:api = '' OR api = :api) ORDER BY at LIMIT :most"
    )
    values = {"environment": environment, "organization": organization, "application": application, "first": first,
              "last": last, "api": api, "most": most}  # fmt: skip
    return [int(us) for (us,) in session.connection().execute(text(query), values)]


def callers(session: Session, environment: str) -> list[tuple[str, str]]:
    """The applications that called lately: organization and name."""
    query = text(
        "SELECT DISTINCT organization, application FROM rollup_hour AS r JOIN rollup_key AS k ON k.id = r.key"
        " WHERE start >= :since AND environment = :environment AND application <> '' ORDER BY 1, 2"
    )
    rows = session.connection().execute(query, {"since": now() - RECENT, "environment": environment})
    return [(row.organization, row.application) for row in rows]
