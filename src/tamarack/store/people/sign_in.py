"""Sign-in: checking a password, with attempts counted by account and by address."""

from datetime import timedelta
from typing import TypeVar

from sqlmodel import Session, col, func, or_, select

from tamarack.store.columns import now
from tamarack.store.errors import StoreError
from tamarack.store.people.attempts import SignInAttempt
from tamarack.store.people.passwords import verify_password
from tamarack.store.people.staff import Staff
from tamarack.store.people.tables import Person

Who = TypeVar("Who", Staff, Person)
WITHIN = timedelta(minutes=15)


class TooManyAttempts(StoreError):
    """Sign-ins from here, or to this account, failed too often lately."""


def sign_in_staff(session: Session, email: str, password: str, address: str, most: int) -> Staff | None:
    """The person of the team who signs in, or None where the account or password is wrong."""
    staff = session.exec(select(Staff).where(Staff.email == _account(email))).first()
    good = _check(session, "console", staff.password_hash if staff else None, email, password, address, most)
    return _seen(session, staff) if staff is not None and good and staff.active else None


def sign_in_person(session: Session, email: str, password: str, address: str, most: int) -> Person | None:
    """The person of an organization who signs in, or None where the account or password is wrong."""
    person = session.exec(select(Person).where(Person.email == _account(email))).first()
    good = _check(session, "portal", person.password_hash if person else None, email, password, address, most)
    return _seen(session, person) if person is not None and good and person.active else None


def _account(email: str) -> str:
    return email.strip().lower()


def _seen(session: Session, who: Who) -> Who:
    who.seen_at = now()
    session.add(who)
    return who


def _check(session: Session, door: str, kept: str | None, account: str, password: str, address: str, most: int) -> bool:
    since = now() - WITHIN
    same = or_(SignInAttempt.account == _account(account), SignInAttempt.address == address)
    recent = select(func.count()).where(SignInAttempt.door == door, col(SignInAttempt.at) > since, same)
    if session.exec(recent).one() >= most:
        raise TooManyAttempts
    if verify_password(kept, password):
        return True
    session.add(SignInAttempt(door=door, account=_account(account)[:200], address=address))
    session.flush()
    return False
