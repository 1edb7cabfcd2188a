"""Who is signed in where. A browser holds a token, the database its digest: what ends here is over, whoever kept it."""

import secrets
from datetime import datetime, timedelta
from hashlib import sha256

from sqlmodel import Field, Session, SQLModel, col, delete, select

from tamarack.core.text import one_line
from tamarack.store.columns import Moment, now
from tamarack.store.people.attempts import account_of
from tamarack.store.people.staff import Staff
from tamarack.store.people.tables import Person

LONGEST = timedelta(days=7)
"""After this a session ends, used or not."""
NOTED_EVERY = timedelta(minutes=2)
"""How exactly it is kept when a session was used last."""


class SignedIn(SQLModel, table=True):
    """A session of someone at a door (console or portal)."""

    __tablename__ = "signed_in"

    digest: str = Field(primary_key=True)
    """SHA-256 of the token."""
    door: str
    who: str = Field(index=True)
    """The id of the member of staff, or of the person."""
    epoch: int
    """Theirs when it began: raising it ends all their sessions."""
    address: str = ""
    agent: str = ""
    made_at: datetime = Moment(index=True)
    seen_at: datetime = Moment(index=True)

    @property
    def id(self) -> str:
        """What names it on a page, and opens nothing."""
        return self.digest[:16]


def _digest(token: str) -> str:
    return sha256(token.encode("utf-8", "replace")).hexdigest()


def begin_session(session: Session, door: str, who: str, epoch: int, address: str, agent: str) -> str:
    """Begin a session; returns its token."""
    token = secrets.token_urlsafe(32)
    session.add(
        SignedIn(
            digest=_digest(token), door=door, who=who, epoch=epoch, address=address[:60], agent=one_line(agent)[:300]
        )
    )
    session.flush()
    return token


def session_of(session: Session, door: str, token: str, idle: timedelta) -> SignedIn | None:
    """The session of a token that is good, or None. Being asked for counts as use."""
    found = session.get(SignedIn, _digest(token)) if token else None
    moment = now()
    if found is None or found.door != door or found.seen_at < moment - idle or found.made_at < moment - LONGEST:
        return None
    return found


def was_here(session: Session, door: str, account: str, address: str) -> bool:
    """Whether an account's owner is signed in from an address already, or was and did not sign out."""
    kind = Staff if door == "console" else Person
    query = (
        select(SignedIn.digest)
        .join(kind, col(kind.id) == SignedIn.who)
        .where(SignedIn.door == door, SignedIn.address == address, kind.email == account_of(account))
    )
    return session.exec(query.limit(1)).first() is not None


def note_use(session: Session, found: SignedIn) -> bool:
    """Note that a session is used, every few minutes; whether there is something to commit."""
    if now() - found.seen_at < NOTED_EVERY:
        return False
    found.seen_at = now()
    session.add(found)
    return True


def end_session(session: Session, token: str) -> None:
    """End a session; its token is good for nothing from now on."""
    session.exec(delete(SignedIn).where(col(SignedIn.digest) == _digest(token)))


def sessions(session: Session, door: str, who: str, idle: timedelta) -> list[SignedIn]:
    """Someone's sessions that are good, the one used last first."""
    query = select(SignedIn).where(
        SignedIn.door == door,
        SignedIn.who == who,
        col(SignedIn.seen_at) > now() - idle,
        col(SignedIn.made_at) > now() - LONGEST,
    )
    return list(session.exec(query.order_by(col(SignedIn.seen_at).desc())))


def end_one(session: Session, door: str, who: str, id: str) -> bool:
    """End one of someone's own sessions by what names it; whether there was one."""
    query = select(SignedIn).where(SignedIn.door == door, SignedIn.who == who, col(SignedIn.digest).startswith(id))
    found = session.exec(query).first() if len(id) == 16 else None
    if found is not None:
        session.delete(found)
    return found is not None


def end_others(session: Session, door: str, who: str, token: str, epoch: int) -> None:
    """End all of someone's sessions but this one, which goes on under their new epoch."""
    mine = _digest(token)
    session.exec(
        delete(SignedIn).where(col(SignedIn.door) == door, col(SignedIn.who) == who, col(SignedIn.digest) != mine)
    )
    found = session.get(SignedIn, mine)
    if found is not None:
        found.epoch = epoch
        session.add(found)


def drop_ended(session: Session, idle: timedelta) -> None:
    """Forget sessions that are over."""
    over = (col(SignedIn.seen_at) < now() - idle) | (col(SignedIn.made_at) < now() - LONGEST)
    session.exec(delete(SignedIn).where(over))
