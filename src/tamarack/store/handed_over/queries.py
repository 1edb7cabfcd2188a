"""Handing over calls: the table that a list of calls becomes, and the files that are made of long ones."""

from collections.abc import Iterator, Sequence
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from sqlmodel import Session, col, select
from sqlmodel.sql.expression import SelectOfScalar

from tamarack.core.traffic.fields import CALL_FIELDS
from tamarack.core.traffic.where import read_where
from tamarack.store.audit.log import Actor, record
from tamarack.store.columns import now
from tamarack.store.errors import NotPossible
from tamarack.store.handed_over.tables import HandedOver
from tamarack.store.traffic import overview as watching
from tamarack.store.traffic.overview import CallFilter

AT_ONCE = 100_000
"""Calls that are written while someone waits; more become a file."""
MOST_WAITING = 5
"""Files of one person that are being made."""
KEPT = timedelta(days=3)

_TYPES = {"text": "text", "number": "integer", "time": "integer", "size": "integer", "moment": "moment"}
_UNITS = {"time": "_us", "size": "_bytes"}


def unmade() -> SelectOfScalar[HandedOver]:
    """The files that wait to be made, and those that were begun."""
    return select(HandedOver).where(col(HandedOver.state).in_(("waiting", "running")))


def columns_of(names: Sequence[str], otel: bool = False) -> dict[str, Any]:
    """The columns of a table of calls with what stands in each; times are microseconds, sizes bytes."""
    return {_heading(name, otel): _TYPES[CALL_FIELDS[name].kind] for name in _kept(names)}


def _kept(names: Sequence[str]) -> list[str]:
    return [name for name in names if CALL_FIELDS[name].column]


def _heading(name: str, otel: bool) -> str:
    field = CALL_FIELDS[name]
    if otel:
        return field.otel_name if field.kind != "moment" else "timestamp"
    return name if field.column in ("at", "") else field.column


def rows_of(session: Session, wanted: CallFilter, names: Sequence[str]) -> Iterator[Sequence[Any]]:
    """The rows of that table."""
    return watching.each_call(session, wanted, [CALL_FIELDS[name].column for name in _kept(names)])


def ask(
    session: Session, actor: Actor, form: str, wanted: CallFilter, names: Sequence[str], otel: bool, many: int
) -> HandedOver:
    """Ask for a file of calls, to be made by the worker. Raises NotPossible."""
    assert wanted.first is not None
    assert wanted.last is not None
    waiting = session.exec(
        select(HandedOver).where(HandedOver.owner == actor.name, col(HandedOver.state).in_(("waiting", "running")))
    ).all()
    if len(waiting) >= MOST_WAITING:
        raise NotPossible(f"{len(waiting)} files are being made for you already; wait for one, or stop it.")
    what = {
        "where": [str(one) for one in wanted.where],
        "first": wanted.first.isoformat(),
        "last": wanted.last.isoformat(),
        "columns": list(names),
        "names": "otel" if otel else "own",
    }
    made = HandedOver(owner=actor.name, what=what, form=form, of=many)
    session.add(made)
    session.flush()
    record(session, actor, "hand over calls", f"file {made.id}", form=form, calls=many, where=what["where"])
    return made


def filter_of(made: HandedOver) -> CallFilter:
    """Which calls a file is of."""
    what = made.what
    first, last = (datetime.fromisoformat(what[name]) for name in ("first", "last"))
    return CallFilter(tuple(read_where(one) for one in what["where"]), first, last)


def mine(session: Session, owner: str) -> list[HandedOver]:
    """Someone's files, the newest first."""
    query = select(HandedOver).where(HandedOver.owner == owner).order_by(col(HandedOver.asked_at).desc())
    return list(session.exec(query.limit(20)))


def my_file(session: Session, owner: str, id: str) -> HandedOver | None:
    """A file of someone's own."""
    found = session.get(HandedOver, id)
    return found if found is not None and found.owner == owner else None


def stop(session: Session, made: HandedOver) -> None:
    """Make no more of a file."""
    if made.state in ("waiting", "running"):
        made.state, made.ended_at = "stopped", now()
        session.add(made)


def place_of(home: Path, made: HandedOver) -> Path:
    """Where a file lies."""
    return home / "handed-over" / f"{made.id}.{made.form}"
