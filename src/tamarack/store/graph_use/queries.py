"""Use of fields: taken in from the nodes' batches, and read by version; and how much documents asked for lately."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import UTC, date, datetime, timedelta
from typing import Any, NamedTuple

from sqlalchemy.dialects.postgresql import insert
from sqlmodel import Session, col, func, select

from tamarack.store.columns import now
from tamarack.store.graph_use.tables import GraphFieldUse
from tamarack.store.traffic.tables import CallBatch, CallRow

Row = tuple[str, str, str, str, str, str, int, float]
"""As a node writes it: see `gateway.recording.field_use`."""


def take_in_field_use(session: Session, batch: str, node: str, rows: Iterable[Row]) -> bool:
    """Add a batch; False where it was taken in before."""
    if session.get(CallBatch, batch) is not None:
        return False
    session.add(CallBatch(id=batch, node=node, calls=0))
    session.flush()
    sums: dict[tuple[date, str, str, str, str, str, str], tuple[int, datetime]] = {}
    for environment, api, version, field, organization, application, calls, at in rows:
        when = datetime.fromtimestamp(at, UTC)
        key = (when.date(), environment, api, version, field, organization, application)
        before = sums.get(key)
        sums[key] = (int(calls) + (before[0] if before else 0), max(when, before[1]) if before else when)
    names = ("day", "environment", "api", "version", "field", "organization", "application")
    for key, (calls, when) in sorted(sums.items()):
        values = dict(zip(names, key, strict=True))
        made = insert(GraphFieldUse).values(**values, calls=calls, last_at=when)
        session.execute(
            made.on_conflict_do_update(
                index_elements=list(names),
                set_={
                    "calls": GraphFieldUse.calls + made.excluded.calls,
                    "last_at": func.greatest(GraphFieldUse.last_at, made.excluded.last_at),
                },
            )
        )
    return True


class FieldSum(NamedTuple):
    """The use of a field over some days."""

    field: str
    calls: int
    callers: int
    """Applications that asked for it."""
    last_at: datetime


def field_use(session: Session, environment: str, api: str, version: str, days: int) -> dict[str, FieldSum]:
    """The use of each field of a version that was asked for in the last days."""
    callers = func.count(func.distinct(col(GraphFieldUse.organization) + "/" + col(GraphFieldUse.application)))
    query = (
        select(GraphFieldUse.field, func.sum(GraphFieldUse.calls), callers, func.max(GraphFieldUse.last_at))
        .where(*_of(environment, api, version, days))
        .group_by(GraphFieldUse.field)
    )
    return {field: FieldSum(field, int(calls), many, last) for field, calls, many, last in session.exec(query)}


class CallerSum(NamedTuple):
    """The use of a field by one application."""

    organization: str
    application: str
    calls: int
    last_at: datetime


def callers_of(
    session: Session, environment: str, api: str, version: str, field: str, days: int, most: int = 200
) -> list[CallerSum]:
    """Who asked for a field in the last days, the busiest first."""
    calls = func.sum(GraphFieldUse.calls)
    query = (
        select(GraphFieldUse.organization, GraphFieldUse.application, calls, func.max(GraphFieldUse.last_at))
        .where(*_of(environment, api, version, days), GraphFieldUse.field == field)
        .group_by(col(GraphFieldUse.organization), col(GraphFieldUse.application))
        .order_by(calls.desc())
        .limit(most)
    )
    return [CallerSum(organization, application, int(many), last)
            for organization, application, many, last in session.exec(query)]  # fmt: skip


def _of(environment: str, api: str, version: str, days: int) -> tuple[bool, ...]:
    since = (now() - timedelta(days=days)).date()
    return (
        GraphFieldUse.environment == environment, GraphFieldUse.api == api, GraphFieldUse.version == version,
        col(GraphFieldUse.day) > since,
    )  # type: ignore[return-value]  # fmt: skip


class Measured(NamedTuple):
    """How deep and costly documents were: the most, and what 99 in a hundred stayed within."""

    calls: int
    depth: int
    usual_depth: int
    cost: int
    usual_cost: int


def measured(session: Session, environment: str, api: str, version: str, days: int) -> Measured:
    """How deep and costly the documents were that were answered in the last days."""
    since = now() - timedelta(days=days)

    def of(column: Any) -> tuple[Any, Any]:
        return func.max(column), func.percentile_disc(0.99).within_group(column)

    depth, cost = of(CallRow.graph_depth), of(CallRow.graph_cost)
    query = select(func.count(), *depth, *cost).where(  # type: ignore[call-overload]
        CallRow.environment == environment, CallRow.api == api, CallRow.version == version, col(CallRow.at) > since,
        col(CallRow.graph_depth) > 0, CallRow.reason == "",
    )  # fmt: skip
    return Measured(*(int(value or 0) for value in session.exec(query).one()))
