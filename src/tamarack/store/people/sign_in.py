"""Sign-in: checking a password. That it may be tried at all is `store.people.attempts`' to say."""

from typing import TypeVar

from sqlmodel import Session, select

from tamarack.store.columns import now
from tamarack.store.people.attempts import account_of
from tamarack.store.people.passwords import verify_password
from tamarack.store.people.staff import Staff
from tamarack.store.people.tables import Person

Who = TypeVar("Who", Staff, Person)


def sign_in_staff(session: Session, email: str, password: str) -> Staff | None:
    """The person of the team who signs in, or None where the account or password is wrong."""
    return _sign_in(session, session.exec(select(Staff).where(Staff.email == account_of(email))).first(), password)


def sign_in_person(session: Session, email: str, password: str) -> Person | None:
    """The person of an organization who signs in, or None where the account or password is wrong."""
    return _sign_in(session, session.exec(select(Person).where(Person.email == account_of(email))).first(), password)


def _sign_in(session: Session, who: Who | None, password: str) -> Who | None:
    # Verified also where there is no such account, so that time tells nothing.
    good = verify_password(who.password_hash if who is not None else None, password)
    if who is None or not good or not who.active:
        return None
    who.seen_at = now()
    session.add(who)
    return who
