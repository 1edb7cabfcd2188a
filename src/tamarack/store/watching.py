"""Reading traffic: totals, series and calls, from the roll-ups unless single calls are asked for."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from typing import Any

from sqlalchemy import text
from sqlmodel import Session, col, select

from tamarack.core.traffic.histogram import Histogram, merge, percentile
from tamarack.store.traffic import CallRow

SPANS: dict[str, timedelta] = {
    "hour": timedelta(hours=1),
    "6 hours": timedelta(hours=6),
    "day": timedelta(days=1),
    "week": timedelta(days=7),
}

FILTERS = ("environment", "api", "version", "operation", "reason", "organization", "application", "plan")
"""Fields of the roll-ups that a page may filter by."""


@dataclass(frozen=True, slots=True)
class Span:
    """A stretch of time, and what of the traffic in it is looked at."""

    first: datetime
    last: datetime
    filters: Mapping[str, str] = field(default_factory=dict)

    def before(self) -> "Span":
        """The same stretch just before."""
        length = self.last - self.first
        return Span(self.first - length, self.first, self.filters)

    @property
    def grain(self) -> str:
        """The roll-up that answers for this span: whole hours from the hourly ones, else minutes."""
        whole = self.first.minute == 0 and self.first.second == 0 and self.last - self.first >= timedelta(days=2)
        return "hour" if whole else "minute"

    def where(self) -> tuple[str, dict[str, Any]]:
        """The SQL condition on the roll-ups and its values."""
        parts = ["grain = :grain", "start >= :first", "start < :last"]
        values: dict[str, Any] = {"grain": self.grain, "first": self.first, "last": self.last}
        for name, value in self.filters.items():
            assert name in FILTERS
            parts.append(f"{name} = :{name}")
            values[name] = value
        return " AND ".join(parts), values


def until_now(length: timedelta, filters: Mapping[str, str] | None = None) -> Span:
    """The stretch up to the end of this minute; of days and longer, of this hour, which hourly roll-ups answer."""
    last = datetime.now(UTC).replace(second=0, microsecond=0) + timedelta(minutes=1)
    if length >= timedelta(days=2):
        last = last.replace(minute=0) + timedelta(hours=1)
    return Span(last - length, last, filters or {})


@dataclass(slots=True)
class Totals:
    """What happened in a span or one point of it. Failed are answers of 500 and more that no caller caused."""

    calls: int = 0
    refused: int = 0
    failed: int = 0
    total_us: int = 0
    response_bytes: int = 0
    held: int = 0
    held_us: int = 0
    marked: int = 0
    classes: tuple[int, ...] = (0, 0, 0, 0)
    """Calls by status class: 2xx, 3xx, 4xx, 5xx."""
    histogram: Histogram = field(default_factory=dict)

    @property
    def answered(self) -> int:
        return self.calls - self.refused - self.failed

    @property
    def refused_share(self) -> float | None:
        return self.refused / self.calls if self.calls else None

    @property
    def failed_share(self) -> float | None:
        return self.failed / self.calls if self.calls else None

    def percentile(self, share: float) -> float | None:
        """A percentile of the time to answer, in microseconds."""
        return percentile(self.histogram, share)


_KIND = (
    "sum(calls)::bigint AS calls,"
    " coalesce(sum(calls) FILTER (WHERE status >= 500), 0)::bigint AS failed,"
    " coalesce(sum(calls) FILTER (WHERE reason <> '' AND status < 500), 0)::bigint AS refused,"
    " sum(total_us)::bigint AS total_us, sum(response_bytes)::bigint AS response_bytes,"
    " sum(held)::bigint AS held, sum(held_us)::bigint AS held_us, sum(marked)::bigint AS marked, "
    + ", ".join(f"coalesce(sum(calls) FILTER (WHERE status / 100 = {n}), 0)::bigint AS s{n}" for n in (2, 3, 4, 5))
)


def _totals(row: Any) -> Totals:
    classes = (row.s2, row.s3, row.s4, row.s5)
    return Totals(
        row.calls, row.refused, row.failed, row.total_us, row.response_bytes, row.held, row.held_us, row.marked, classes
    )


def series(session: Session, span: Span, step: timedelta) -> tuple[list[datetime], list[Totals]]:
    """A span's totals point by point, from its first moment, with its histogram each."""
    where, values = span.where()
    values["step"] = step.total_seconds()
    base = "floor(extract(epoch FROM start - :first) / :step)::int"
    points: dict[int, Totals] = {}
    query = f"SELECT {base} AS place, {_KIND} FROM rollup WHERE {where} GROUP BY place"  # noqa: S608
    for row in session.connection().execute(text(query), values):
        points[row.place] = _totals(row)
    query = (
        f"SELECT {base} AS place, bucket, sum(many)::bigint AS many"  # noqa: S608
        f" FROM rollup, unnest(buckets, counts) AS h(bucket, many) WHERE {where} GROUP BY place, bucket"
    )
    for row in session.connection().execute(text(query), values):
        if row.place in points:  # a batch that came in between the two questions is for the next look
            points[row.place].histogram[row.bucket] = row.many
    count = max(1, round((span.last - span.first) / step))
    times = [span.first + place * step for place in range(count)]
    return times, [points.get(place, Totals()) for place in range(count)]


def together(points: Sequence[Totals]) -> Totals:
    """The totals of several points."""
    return Totals(
        calls=sum(point.calls for point in points),
        refused=sum(point.refused for point in points),
        failed=sum(point.failed for point in points),
        total_us=sum(point.total_us for point in points),
        response_bytes=sum(point.response_bytes for point in points),
        held=sum(point.held for point in points),
        held_us=sum(point.held_us for point in points),
        marked=sum(point.marked for point in points),
        classes=tuple(sum(point.classes[place] for point in points) for place in range(4)),
        histogram=merge(point.histogram for point in points),
    )


def totals(session: Session, span: Span) -> Totals:
    """A span's totals."""
    return together(series(session, span, span.last - span.first)[1])


@dataclass(frozen=True, slots=True)
class Refused:
    """How often a reason refused one caller at one place."""

    reason: str
    application: str
    api: str
    version: str
    operation: str
    calls: int


def totals_before(session: Session, span: Span) -> Totals | None:
    """The totals of the stretch just before a span; None where the records do not reach back that far."""
    before = span.before()
    query = text("SELECT min(start) FROM rollup WHERE grain = 'hour'")
    earliest = session.connection().execute(query).scalar()
    return totals(session, before) if earliest is not None and earliest <= before.first else None


def refusals(session: Session, span: Span, most: int = 8) -> list[Refused]:
    """The commonest refusals, by reason, caller and place."""
    where, values = span.where()
    query = (
        "SELECT reason, application, api, version, operation, sum(calls)::bigint AS calls"  # noqa: S608
        f" FROM rollup WHERE {where} AND reason <> ''"
        " GROUP BY reason, application, api, version, operation ORDER BY calls DESC, reason LIMIT :most"
    )
    rows = session.connection().execute(text(query), values | {"most": most})
    return [Refused(r.reason, r.application, r.api, r.version, r.operation, r.calls) for r in rows]


@dataclass(frozen=True, slots=True)
class Busy:
    """The totals of one value of a field."""

    name: tuple[str, ...]
    totals: Totals


def busiest(session: Session, span: Span, fields: tuple[str, ...], most: int = 8) -> list[Busy]:
    """The values of some fields with the most calls."""
    assert all(name in FILTERS for name in fields)
    where, values = span.where()
    listed = ", ".join(fields)
    query = (
        f"SELECT {listed}, {_KIND} FROM rollup WHERE {where} AND {fields[0]} <> ''"  # noqa: S608
        f" GROUP BY {listed} ORDER BY calls DESC LIMIT :most"
    )
    rows = session.connection().execute(text(query), values | {"most": most})
    found = []
    for row in rows:
        name = tuple(getattr(row, part) for part in fields)
        found.append(Busy(name, _totals(row)))
    return found


@dataclass(frozen=True, slots=True)
class CallFilter:
    """Which calls a list shows. Empty fields do not filter; `outcome` is answered, refused or failed."""

    environment: str = ""
    api: str = ""
    organization: str = ""
    application: str = ""
    reason: str = ""
    status: str = ""
    outcome: str = ""
    path: str = ""
    first: datetime | None = None
    last: datetime | None = None


def calls(
    session: Session, wanted: CallFilter, before: tuple[datetime, str] | None = None, most: int = 50
) -> list[CallRow]:
    """The newest calls that match, `before` a call's time and id where paging."""
    query = select(CallRow).order_by(col(CallRow.at).desc(), col(CallRow.id).desc()).limit(most)
    for name in ("environment", "api", "organization", "application", "reason"):
        value = getattr(wanted, name)
        if value:
            query = query.where(getattr(CallRow, name) == value)
    if wanted.status.isdigit():
        query = query.where(CallRow.status == int(wanted.status))
    elif len(wanted.status) == 3 and wanted.status[0].isdigit():
        low = int(wanted.status[0]) * 100
        query = query.where(col(CallRow.status).between(low, low + 99))
    if wanted.outcome == "refused":
        query = query.where(col(CallRow.reason) != "", col(CallRow.status) < 500)
    elif wanted.outcome == "failed":
        query = query.where(col(CallRow.status) >= 500)
    elif wanted.outcome == "answered":
        query = query.where(col(CallRow.reason) == "", col(CallRow.status) < 500)
    if wanted.path:
        query = query.where(col(CallRow.path).contains(wanted.path, autoescape=True))
    if wanted.first is not None:
        query = query.where(col(CallRow.at) >= wanted.first)
    if wanted.last is not None:
        query = query.where(col(CallRow.at) < wanted.last)
    if before is not None:
        at, id = before
        query = query.where((col(CallRow.at) < at) | ((col(CallRow.at) == at) & (col(CallRow.id) < id)))
    return list(session.exec(query))


def find_call(session: Session, id: str) -> CallRow | None:
    """One call by its id; the id holds its time, so that only one day is looked at."""
    try:
        at = datetime.fromtimestamp(int(id[:11], 16) / 1000, UTC)
    except (ValueError, OverflowError):
        return None
    slack = timedelta(seconds=2)
    query = select(CallRow).where(CallRow.id == id, col(CallRow.at) >= at - slack, col(CallRow.at) <= at + slack)
    return session.exec(query).first()
