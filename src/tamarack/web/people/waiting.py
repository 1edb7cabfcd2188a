"""Attempts that are delayed: a few wait at a time, so that those who guess cannot keep everybody else waiting."""

import time
from threading import BoundedSemaphore

from sqlmodel import Session

from tamarack.store.people.attempts import TooManyAttempts, begin_attempt
from tamarack.store.people.sessions import was_here

MOST_WAITING = 2
"""Of the eight requests that a program serves at a time."""
_PLACES = BoundedSemaphore(MOST_WAITING)


def wait_for_attempt(session: Session, door: str, account: str, address: str, most: int) -> None:
    """Count an attempt, and wait as long as it has to. Raises `TooManyAttempts`, also where too many wait already.

    Where the account's owner is signed in from, nothing waits: whoever guesses elsewhere does not hold them up.
    """
    seconds = begin_attempt(session, door, account, address, most)
    if not seconds or was_here(session, door, account, address):
        return
    if not _PLACES.acquire(blocking=False):
        raise TooManyAttempts
    try:
        time.sleep(seconds)
    finally:
        _PLACES.release()
