"""Misfits: taken in from the nodes' batches, and read by version."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import UTC, date, datetime, timedelta
from hashlib import blake2b
from typing import NamedTuple

from sqlmodel import Session, col, func, select

from tamarack.core.checking.misfit import TOO_MANY
from tamarack.store.columns import now
from tamarack.store.misfits.tables import MisfitSeen
from tamarack.store.traffic.tables import CallBatch

MOST_A_DAY = 200
"""Things told apart of one operation on one day; callers choose names, so there must be a bound."""
Row = tuple[str, str, str, str, str, str, str, str, bool, int, int, float, str]
"""As a node writes it: see `gateway.recording.misfit_count`."""
_Operation = tuple[date, str, str, str, str]


def take_in_misfits(session: Session, batch: str, node: str, rows: Iterable[Row]) -> bool:
    """Add a batch; False where it was taken in before."""
    if session.get(CallBatch, batch) is not None:
        return False
    session.add(CallBatch(id=batch, node=node, calls=0))
    known: dict[_Operation, int] = {}
    for row in sorted(rows):
        _add(session, row, known)
    session.flush()
    return True


def _add(session: Session, row: Row, known: dict[_Operation, int]) -> None:
    environment, api, version, operation, side, place, field, words, undescribed, passed, refused, at, call = row
    when = datetime.fromtimestamp(at, UTC)
    where: _Operation = (when.date(), environment, api, version, operation)
    told = (side, place, field, words)
    seen = session.get(MisfitSeen, _key(where, told), with_for_update=True)
    if seen is None:
        if where not in known:
            known[where] = _many(session, where)
        if known[where] >= MOST_A_DAY:
            told, undescribed = ("", "others", "", TOO_MANY), False
            seen = session.get(MisfitSeen, _key(where, told), with_for_update=True)
    if seen is None:
        known[where] += 1
        seen = MisfitSeen(
            key=_key(where, told), day=where[0], environment=environment, api=api, version=version,
            operation=operation, side=told[0], place=told[1], field=told[2], words=told[3], undescribed=undescribed,
            passed=0, refused=0, last_at=when, last_call=call,
        )  # fmt: skip
    seen.passed += passed
    seen.refused += refused
    if when >= seen.last_at:
        seen.last_at, seen.last_call = when, call
    session.add(seen)
    session.flush()


def _key(where: _Operation, told: tuple[str, str, str, str]) -> str:
    text = "\n".join((*map(str, where), *told))
    return blake2b(text.encode(), digest_size=16).hexdigest()


def _many(session: Session, where: _Operation) -> int:
    day, environment, api, version, operation = where
    query = select(func.count()).where(
        MisfitSeen.day == day, MisfitSeen.environment == environment, MisfitSeen.api == api,
        MisfitSeen.version == version, MisfitSeen.operation == operation,
    )  # fmt: skip
    return session.exec(query).one()


class MisfitSum(NamedTuple):
    """One thing over some days."""

    operation: str
    side: str
    place: str
    field: str
    words: str
    undescribed: bool
    passed: int
    refused: int
    first_day: date
    last_at: datetime
    last_call: str


def misfits_of(
    session: Session, environment: str, api: str, version: str, days: int, most: int = 500
) -> list[MisfitSum]:
    """What did not fit a version's description in the last days, the most frequent first."""
    since = (now() - timedelta(days=days)).date()
    query = select(MisfitSeen).where(
        MisfitSeen.environment == environment, MisfitSeen.api == api, MisfitSeen.version == version,
        col(MisfitSeen.day) > since,
    ).order_by(col(MisfitSeen.last_at))  # fmt: skip
    sums: dict[tuple[str, ...], MisfitSum] = {}
    for one in session.exec(query):
        key = (one.operation, one.side, one.place, one.field, one.words)
        before = sums.get(key)
        sums[key] = MisfitSum(
            *key,
            one.undescribed,
            one.passed + (before.passed if before is not None else 0),
            one.refused + (before.refused if before is not None else 0),
            min(one.day, before.first_day) if before is not None else one.day,
            one.last_at,
            one.last_call,
        )
    found = sorted(sums.values(), key=lambda one: (-one.passed - one.refused, one.operation, one.field))
    return found[:most]
