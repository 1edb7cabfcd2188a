"""The sign-in log: who signed in, what was granted, and what was refused for which reason. It holds no secret."""

from __future__ import annotations

from datetime import timedelta

from sqlmodel import Session, col, delete, func, or_, select

from tamarack.core.text import one_line
from tamarack.store.columns import now
from tamarack.store.sign_in.tables import EndUser, SignInEvent

KEPT = timedelta(days=90)
MOST_KEPT = 100_000
"""The newest ones: whoever is refused without end fills no disk."""
LONGEST = 200


def note(
    session: Session,
    directory: str,
    what: str,
    *,
    user: EndUser | None = None,
    who: str = "",
    client: str = "",
    why: str = "",
    refused: bool = False,
    address: str = "",
) -> None:
    """Write down what happened. `why` is said where it was refused."""
    who = who or (user.email if user is not None else "")
    session.add(
        SignInEvent(
            directory=directory, what=what, refused=refused, why=one_line(why)[:LONGEST],
            user_id=user.id if user is not None else None, who=one_line(who)[:LONGEST],
            client_id=one_line(client)[:LONGEST], address=address[:64],
        )
    )  # fmt: skip
    session.flush()


def events(
    session: Session,
    directory: str,
    text: str = "",
    refused: bool = False,
    user_id: str = "",
    most: int = 50,
    skip: int = 0,
) -> tuple[list[SignInEvent], int]:
    """What happened, the newest first, and how much in all: where the mail address, client or address holds a text."""
    query = select(SignInEvent).where(SignInEvent.directory == directory)
    if text:
        holds = (func.lower(column).contains(text.lower(), autoescape=True)
                 for column in (SignInEvent.who, SignInEvent.client_id, SignInEvent.address))  # fmt: skip
        query = query.where(or_(*holds))
    if refused:
        query = query.where(SignInEvent.refused)
    if user_id:
        query = query.where(SignInEvent.user_id == user_id)
    total = session.exec(select(func.count()).select_from(query.subquery())).one()
    return list(session.exec(query.order_by(col(SignInEvent.id).desc()).offset(skip).limit(most))), total


def drop_old(session: Session) -> None:
    """Forget what is older than 90 days, and what is beyond the newest hundred thousand."""
    session.exec(delete(SignInEvent).where(col(SignInEvent.at) < now() - KEPT))
    newest = select(SignInEvent.id).order_by(col(SignInEvent.id).desc()).offset(MOST_KEPT).limit(1)
    last = session.exec(newest).first()
    if last is not None:
        session.exec(delete(SignInEvent).where(col(SignInEvent.id) <= last))
