"""What pages ask of the traffic: totals and series of a span, the busiest, the commonest refusals, single calls."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from typing import Any

from sqlalchemy import text
from sqlmodel import Session, col, select

from tamarack.core.traffic.span import floored, raised, up_to
from tamarack.core.traffic.totals import Totals
from tamarack.core.traffic.where import Where
from tamarack.store.traffic import reading
from tamarack.store.traffic.reading import Order, Question
from tamarack.store.traffic.tables import CallRow

SHOWN = ("refused", "failed", "hits", "misses", "held", "held_us", "marked", "total_us", "response_bytes",
         "of_2xx", "of_3xx", "of_4xx", "of_5xx")  # fmt: skip
"""The totals that pages show of a span."""


@dataclass(frozen=True, slots=True)
class Span:
    """A stretch of time, and what of the traffic in it is looked at: fields of the roll-ups with their values."""

    first: datetime
    last: datetime
    filters: Mapping[str, str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        """Totals are answered by whole minutes."""
        object.__setattr__(self, "first", floored(self.first, 60))
        object.__setattr__(self, "last", raised(self.last, 60))

    def before(self) -> "Span":
        """The same stretch just before."""
        return self.earlier(self.last - self.first)

    def earlier(self, by: timedelta) -> "Span":
        """The same stretch so much earlier."""
        return Span(self.first - by, self.last - by, self.filters)

    @property
    def where(self) -> tuple[Where, ...]:
        """Its conditions."""
        return tuple(Where(field=name, how="is", values=(value,)) for name, value in self.filters.items())


def until_now(length: timedelta, filters: Mapping[str, str] | None = None) -> Span:
    """The stretch up to now."""
    first, last = up_to(datetime.now(UTC), length)
    return Span(first, last, filters or {})


def series(session: Session, span: Span, step: timedelta) -> tuple[list[datetime], list[Totals]]:
    """A span's totals point by point, from its first moment, with the histogram of each."""
    asked = Question(span.first, span.last, span.where, step=step, histograms=("histogram",), sums=SHOWN)
    found = reading.answer(session, asked)
    return found.times, found.groups[0].points


def totals(session: Session, span: Span) -> Totals:
    """A span's totals."""
    asked = Question(span.first, span.last, span.where, histograms=("histogram",), sums=SHOWN)
    return reading.answer(session, asked).groups[0].total


def totals_before(session: Session, span: Span) -> Totals | None:
    """The totals of the stretch just before a span; None where the records do not reach back that far."""
    before = span.before()
    earliest = session.connection().execute(text("SELECT min(start) FROM rollup_hour")).scalar()
    return totals(session, before) if earliest is not None and earliest <= before.first else None


@dataclass(frozen=True, slots=True)
class Refused:
    """How often a reason refused one caller at one place."""

    reason: str
    application: str
    api: str
    version: str
    operation: str
    calls: int


def refusals(session: Session, span: Span, most: int = 8) -> list[Refused]:
    """The commonest refusals, by reason, caller and place."""
    refused = Where(field="reason", how="is not", values=("",))
    split = ("reason", "application", "api", "version", "operation")
    asked = Question(span.first, span.last, (*span.where, refused), split, most=most, others=False, sums=())
    found = reading.answer(session, asked).groups
    named = [(group.key, group.total.calls) for group in found if group.key is not None]
    return [Refused(reason, application, api, version, operation, calls)
            for (reason, application, api, version, operation), calls in named]  # fmt: skip


@dataclass(frozen=True, slots=True)
class Busy:
    """The totals of one value of a field."""

    name: tuple[str, ...]
    totals: Totals


def busiest(
    session: Session,
    span: Span,
    fields: Sequence[str],
    most: int = 8,
    order: Order = "calls",
    histograms: Sequence[str] = (),
    sums: Sequence[str] = ("refused", "failed", "total_us"),
) -> list[Busy]:
    """The values of some fields with the most calls, or the most refused or failed ones."""
    named = Where(field=fields[0], how="is not", values=("",))
    asked = Question(span.first, span.last, (*span.where, named), fields, most=most, order=order, others=False,
                     histograms=histograms, sums=sums)  # fmt: skip
    found = reading.answer(session, asked).groups
    return [Busy(group.key, group.total) for group in found if group.key is not None]


@dataclass(frozen=True, slots=True)
class CallFilter:
    """Which calls a list shows."""

    where: tuple[Where, ...] = ()
    first: datetime | None = None
    last: datetime | None = None


def call_filter(first: datetime | None = None, last: datetime | None = None, **values: str) -> CallFilter:
    """Calls by the values of some fields; empty ones do not filter."""
    found = tuple(Where(field=name, how="is", values=(value,)) for name, value in values.items() if value)
    return CallFilter(found, first, last)


Place = tuple[datetime, str]
"""Where a list goes on: a call's time and id."""


def calls(session: Session, wanted: CallFilter, before: Place | None = None, most: int = 50) -> list[CallRow]:
    """The newest calls that match, `before` one where paging."""
    parts, values = reading.conditions(wanted.where, reading.raw_columns())
    query = select(CallRow).order_by(col(CallRow.at).desc(), col(CallRow.id).desc()).limit(most)
    for part in parts:
        query = query.where(text(part))
    if wanted.first is not None:
        query = query.where(col(CallRow.at) >= wanted.first)
    if wanted.last is not None:
        query = query.where(col(CallRow.at) < wanted.last)
    if before is not None:
        at, id = before
        query = query.where(col(CallRow.at) <= at, (col(CallRow.at) < at) | (col(CallRow.id) < id))
    return list(session.exec(query, params=values))


def each_call(
    session: Session, wanted: CallFilter, columns: Sequence[str], piece: int = 5_000
) -> Iterator[Sequence[Any]]:
    """All the calls that match, newest first, as rows of some columns; read in pieces through a cursor."""
    parts, values = reading.conditions(wanted.where, reading.raw_columns())
    held = [*(f"({part})" for part in parts)]
    for moment, said in ((wanted.first, "at >= :first"), (wanted.last, "at < :last")):
        if moment is not None:
            held.append(said)
    values |= {"first": wanted.first, "last": wanted.last}
    query = f'SELECT {", ".join(columns)} FROM "call" WHERE {" AND ".join(held) or "true"} ORDER BY at DESC, id DESC'  # noqa: S608
    rows = session.connection(execution_options={"stream_results": True, "max_row_buffer": piece}).execute(
        text(query), {name: value for name, value in values.items() if value is not None}
    )
    for some in rows.partitions(piece):
        yield from some


def count_calls(session: Session, wanted: CallFilter) -> int:
    """How many calls match: from the roll-ups where they know, else counted."""
    assert wanted.first is not None
    assert wanted.last is not None
    asked = Question(floored(wanted.first, 60), raised(wanted.last, 60), wanted.where)
    return reading.answer(session, asked).groups[0].total.calls


def find_call(session: Session, id: str) -> CallRow | None:
    """One call by its id; the id holds its time, so that only one day is looked at."""
    try:
        at = datetime.fromtimestamp(int(id[:11], 16) / 1000, UTC)
    except (ValueError, OverflowError):
        return None
    slack = timedelta(seconds=2)
    query = select(CallRow).where(CallRow.id == id, col(CallRow.at) >= at - slack, col(CallRow.at) <= at + slack)
    return session.exec(query).first()
