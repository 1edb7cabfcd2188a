"""Attempts at a door, counted so that guessing is slow, and so that nobody is locked out by somebody else.

An attempt counts before the password is looked at, under a lock of its account and address: of many at once no more
are checked than of one after the other. One that succeeds is taken off again.
"""

from datetime import datetime, timedelta
from hashlib import blake2b

from sqlalchemy import text
from sqlmodel import Field, Session, SQLModel, col, delete, func, select

from tamarack.store.columns import Moment, now
from tamarack.store.errors import StoreError

WITHIN = timedelta(minutes=15)
ALL_ACCOUNTS = 5
"""How many times as many attempts an address has for all accounts together as for one."""
FREE = 10
"""Attempts at an account, from wherever, before each further one is delayed."""
LONGEST_DELAY_S = 2.0


class TooManyAttempts(StoreError):
    """Attempts from here at this account, or from here altogether, were too many lately."""


class SignInAttempt(SQLModel, table=True):
    """An attempt at a door (console, portal, or join) that has not succeeded, by account and address."""

    __tablename__ = "sign_in_attempt"

    id: int | None = Field(default=None, primary_key=True)
    door: str
    account: str = Field(index=True)
    address: str = Field(index=True)
    at: datetime = Moment(index=True)


def account_of(typed: str) -> str:
    """An account as attempts know it."""
    return typed.strip().lower()[:200]


def begin_attempt(session: Session, door: str, account: str, address: str, most: int) -> float:
    """Count an attempt, at once and for good; returns for how many seconds it is to wait before it goes on.

    Raises `TooManyAttempts`, without counting, where `most` attempts from this address at this account failed within
    a quarter of an hour, or five times as many from this address at any. Attempts from other addresses only delay.
    """
    account = account_of(account)
    for part in (f"{door} {address}", f"{door} {address} {account}"):
        number = int.from_bytes(blake2b(part.encode("utf-8", "replace"), digest_size=8).digest(), "big", signed=True)
        session.connection().execute(text("SELECT pg_advisory_xact_lock(:number)"), {"number": number})
    lately = select(func.count()).where(SignInAttempt.door == door, col(SignInAttempt.at) > now() - WITHIN)
    here = lately.where(SignInAttempt.address == address)
    if (
        session.exec(here.where(SignInAttempt.account == account)).one() >= most
        or session.exec(here).one() >= most * ALL_ACCOUNTS
    ):
        session.rollback()
        raise TooManyAttempts
    everywhere = session.exec(lately.where(SignInAttempt.account == account)).one()
    session.add(SignInAttempt(door=door, account=account, address=address))
    session.commit()
    return min(LONGEST_DELAY_S, 0.1 * 2 ** min(10, everywhere - FREE)) if everywhere >= FREE else 0.0


def succeeded(session: Session, door: str, account: str, address: str) -> None:
    """Take off what was counted: whoever came in from here was not guessing."""
    session.exec(
        delete(SignInAttempt).where(
            col(SignInAttempt.door) == door,
            col(SignInAttempt.account) == account_of(account),
            col(SignInAttempt.address) == address,
        )
    )


def drop_old_attempts(session: Session) -> None:
    """Forget attempts that count no more."""
    session.exec(delete(SignInAttempt).where(col(SignInAttempt.at) < now() - 4 * WITHIN))
