"""A door: signing in and out, the same for console and portal but for who comes in."""

from collections.abc import Callable
from typing import Any, Protocol

from flask import Blueprint, current_app, redirect, render_template, request, url_for
from sqlmodel import Session

from tamarack.store.audit import log as auditing
from tamarack.store.people.attempts import TooManyAttempts, succeeded
from tamarack.web.application import actor, db, settings_of
from tamarack.web.people.signed_in import door, leave, let_in
from tamarack.web.people.waiting import wait_for_attempt
from tamarack.web.safe import safe_next


class Someone(Protocol):
    """Whoever can come in: staff, or a person of an organization."""

    id: str
    email: str
    session_epoch: int


Check = Callable[[Session, str, str], Someone | None]
"""Given e-mail address and password: who it is, or None."""


def make_door(check: Check, me: Callable[[], Someone | None], afterwards: str) -> Blueprint:
    """The pages of a door. `afterwards` is seen after leaving."""
    pages = Blueprint("sign_in", __name__)

    def page(email: str, target: str, error: str) -> str:
        return render_template("door/form.html", email=email, next=target, error=error)

    @pages.get("/sign-in")
    def form() -> Any:
        target = safe_next(request.args.get("next", "/"))
        return redirect(target) if me() is not None else page("", target, "")

    @pages.post("/sign-in")
    def sign_in() -> Any:
        email, target = request.form.get("email", ""), safe_next(request.form.get("next", "/"))
        address, most = request.remote_addr or "", settings_of(current_app).sign_in_attempts
        try:
            wait_for_attempt(db(), door(), email, address, most)
        except TooManyAttempts:
            error = "Too many failed sign-ins from here. Try again in a quarter of an hour, or set a new password."
            return page(email, target, error), 429
        someone = check(db(), email, request.form.get("password", ""))
        if someone is None:
            return page(email, target, "The e-mail address or the password is not right."), 422
        succeeded(db(), door(), email, address)
        let_in(someone.id, someone.session_epoch)
        auditing.record(db(), actor(someone.email), "sign in", someone.email)
        db().commit()
        return redirect(target, code=303)

    @pages.post("/sign-out")
    def sign_out() -> Any:
        someone = me()
        if someone is not None:
            auditing.record(db(), actor(someone.email), "sign out", someone.email)
        leave()
        db().commit()
        return redirect(url_for(afterwards), code=303)

    return pages
