"""Who is signed in at a door: the session that the browser's cookie names, kept by the server."""

from datetime import timedelta
from typing import TypeVar

from flask import current_app, g, request, session

from tamarack.store.people.sessions import SignedIn, begin_session, end_session, note_use, session_of
from tamarack.store.people.staff import Staff
from tamarack.store.people.tables import Person
from tamarack.web.application import db, settings_of

TOKEN = "token"  # noqa: S105 - under what name the cookie holds it
Who = TypeVar("Who", Staff, Person)


def door() -> str:
    """The door of this program: console or portal."""
    return str(current_app.extensions["tamarack_door"])


def idle() -> timedelta:
    """After how long without use a session ends."""
    return timedelta(hours=settings_of(current_app).session_hours)


def my_session() -> SignedIn | None:
    """The session of this request, or None."""
    if "signed_in" not in g:
        g.signed_in = session_of(db(), door(), str(session.get(TOKEN, "")), idle())
    found: SignedIn | None = g.signed_in
    return found


def who_is(kind: type[Who]) -> Who | None:
    """Whoever is signed in and may be, or None."""
    found = my_session()
    if found is None:
        return None
    who = db().get(kind, found.who)
    if who is None or not who.active or who.session_epoch != found.epoch:
        return None
    if note_use(db(), found):
        db().commit()  # nothing else was done yet
        db().refresh(who)
    return who


def let_in(id: str, epoch: int) -> None:
    """Begin a session; whatever the browser held before is gone."""
    leave()
    session.permanent = True
    agent = request.headers.get("User-Agent", "")
    session[TOKEN] = begin_session(db(), door(), id, epoch, request.remote_addr or "", agent)


def leave() -> None:
    """End this request's session, on the server and in the browser."""
    token = str(session.get(TOKEN, ""))
    if token:
        end_session(db(), token)
    session.clear()
    g.pop("signed_in", None)
