"""Changing one's own password, in both doors, and the change that has to come first; and where one is signed in."""

from collections.abc import Callable
from typing import Any, Protocol

from flask import Blueprint, abort, redirect, request, session, url_for

from tamarack.core.identity.passwords import password_problem
from tamarack.store.audit import log as auditing
from tamarack.store.people.passwords import hash_password, verify_password
from tamarack.store.people.sessions import end_one, end_others, sessions
from tamarack.web.application import actor, db
from tamarack.web.people.signed_in import TOKEN, door, idle, my_session

FORM = "own_password.form"


class Owner(Protocol):
    """Whoever has a password: staff, or a person of an organization."""

    id: str
    email: str
    password_hash: str
    must_change_password: bool
    session_epoch: int


def make_password_pages(
    me: Callable[[], Owner | None], guard: Callable[[Any], Any], render: Callable[..., str], afterwards: str
) -> Blueprint:
    """The pages. `guard` lets only those in who are signed in, also where they have to change the password first."""
    pages = Blueprint("own_password", __name__, url_prefix="/password")

    def page(errors: dict[str, str]) -> str:
        owner, mine = me(), my_session()
        assert owner is not None
        return render(
            "own_password.html",
            must=owner.must_change_password,
            errors=errors,
            sessions=sessions(db(), door(), owner.id, idle()),
            mine=mine.id if mine is not None else "",
        )

    @pages.get("/")
    @guard
    def form() -> Any:
        return page({})

    @pages.post("/")
    @guard
    def change() -> Any:
        owner = me()
        assert owner is not None
        old, new = request.form.get("old", ""), request.form.get("new", "")
        errors: dict[str, str] = {}
        if not verify_password(owner.password_hash, old):
            errors["old"] = "is not the password that you sign in with"
        problem = password_problem(new, owner.email)
        if problem is not None:
            errors["new"] = problem
        elif new == old:
            errors["new"] = "is the old one; choose another"
        if errors:
            return page(errors), 422
        owner.password_hash, owner.must_change_password = hash_password(new), False
        owner.session_epoch += 1
        db().add(owner)
        end_others(db(), door(), owner.id, str(session.get(TOKEN, "")), owner.session_epoch)
        auditing.record(db(), actor(owner.email), "change password", owner.email)
        db().commit()
        return redirect(url_for(afterwards), code=303)

    @pages.post("/sessions")
    @guard
    def end() -> Any:
        """End one of one's own sessions, or all but this one."""
        owner = me()
        assert owner is not None
        named = request.form.get("session", "")
        if named == "others":
            end_others(db(), door(), owner.id, str(session.get(TOKEN, "")), owner.session_epoch)
        elif not end_one(db(), door(), owner.id, named):
            abort(404, "That session is over already.")
        auditing.record(db(), actor(owner.email), "end session", owner.email)
        db().commit()
        return redirect(url_for(FORM), code=303)

    return pages
