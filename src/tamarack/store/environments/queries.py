"""Which environments there are, making one, changing what is said of it, and their order."""

from collections.abc import Callable

from pydantic import ValidationError
from sqlalchemy import text
from sqlmodel import Session, col, select

from tamarack.core.environments.environment import MOST_ENVIRONMENTS, Environment, Environments
from tamarack.core.types import problems_of
from tamarack.store.audit import log as auditing
from tamarack.store.audit.log import Actor
from tamarack.store.environments.tables import EnvironmentRow
from tamarack.store.errors import NotPossible
from tamarack.store.feed import items as feeding

_SAID = ("summary", "mark", "address", "open_to_owners", "on_portal")


def known(session: Session) -> Environments:
    """The environments that there are, in their order."""
    query = select(EnvironmentRow).where(col(EnvironmentRow.removed_at).is_(None)).order_by(col(EnvironmentRow.place))
    return Environments(
        tuple(
            Environment.model_construct(name=row.name, **{field: getattr(row, field) for field in _SAID})
            for row in session.exec(query)
        )
    )


def lock(session: Session) -> None:
    """One change of environments at a time; what names one waits for it where that matters."""
    session.connection().execute(text("SELECT pg_advisory_xact_lock(hashtext('tamarack environments'))"))


def of_name(session: Session, name: str) -> EnvironmentRow:
    """The row of an environment that is there. Raises `NotPossible`."""
    row = session.get(EnvironmentRow, name)
    if row is None or row.removed_at is not None:
        raise NotPossible(f"There is no environment {name[:40]!r}; there are {known(session).said}.", "environment")
    return row


def read(said: dict[str, object]) -> Environment:
    """An environment as it was typed. Raises `NotPossible`, for a field."""
    try:
        return Environment.model_validate(said)
    except ValidationError as error:
        problem = problems_of(error)[0]
        raise NotPossible(f"{problem.message}.", str(problem.path[0]) if problem.path else "name") from error


def make(session: Session, actor: Actor, wanted: Environment, before: str = "") -> EnvironmentRow:
    """Make an environment, which stands before another one: before the live one unless that is said.

    Raises `NotPossible` for a name that is or was taken, and where there are as many as may be.
    """
    lock(session)
    there = known(session)
    if len(there) >= MOST_ENVIRONMENTS:
        raise NotPossible(f"There are {MOST_ENVIRONMENTS} environments, which is as many as there may be.", "name")
    taken = session.get(EnvironmentRow, wanted.name)
    if taken is not None and taken.removed_at is not None:
        raise NotPossible(
            f"There was an environment {wanted.name!r} until {taken.removed_at:%d %B %Y}; its rollouts and records"
            " bear the name. Choose another one.",
            "name",
        )
    if taken is not None:
        raise NotPossible(f"There is an environment {wanted.name!r} already.", "name")
    before = before or there.live
    if before not in there:
        raise NotPossible(f"There is no environment {before[:40]!r} to stand before.", "before")
    row = EnvironmentRow(name=wanted.name, made_by=actor.name, **{field: getattr(wanted, field) for field in _SAID})
    session.add(row)
    session.flush()
    _tell_nodes(session, row)
    names = list(there)
    names.insert(names.index(before), wanted.name)
    _put_in_order(session, names)
    auditing.record(session, actor, "make an environment", wanted.name, before=before, **_said(row))
    return row


def _tell_nodes(session: Session, row: EnvironmentRow) -> None:
    """Tell an environment's nodes where callers reach it."""
    feeding.publish(session, "environment", row.name, {"environment": row.name, "address": row.address})


def _said(row: EnvironmentRow) -> dict[str, object]:
    return {field: getattr(row, field) for field in _SAID}


def change(session: Session, actor: Actor, wanted: Environment) -> bool:
    """Say something else of an environment; returns whether anything is another now. Raises `NotPossible`."""
    lock(session)
    row = of_name(session, wanted.name)
    was = {field: getattr(row, field) for field in _SAID if getattr(row, field) != getattr(wanted, field)}
    if not was:
        return False
    for field in was:
        setattr(row, field, getattr(wanted, field))
    session.add(row)
    session.flush()
    if "address" in was:
        _tell_nodes(session, row)
    auditing.record(
        session, actor, "change an environment", row.name, was=was, now={field: getattr(row, field) for field in was}
    )
    return True


def put_in_order(session: Session, actor: Actor, names: list[str], then: Callable[[str], None] | None = None) -> bool:
    """Put the environments in another order; returns whether it is another. The last one is the live one, and `then` is
    called with it where it was another before. Raises `NotPossible` where the names are not those that there are."""
    lock(session)
    there = known(session)
    if sorted(names) != sorted(there):
        raise NotPossible("The environments were changed meanwhile. Look at them again, then put them in order.")
    if names == list(there):
        return False
    _put_in_order(session, names)
    auditing.record(session, actor, "put environments in order", names[-1], was=list(there), now=names)
    if names[-1] != there.live and then is not None:
        then(names[-1])
    return True


def _put_in_order(session: Session, names: list[str]) -> None:
    for row in session.exec(select(EnvironmentRow).where(col(EnvironmentRow.removed_at).is_(None))):
        row.place = names.index(row.name)
        session.add(row)
    session.flush()
