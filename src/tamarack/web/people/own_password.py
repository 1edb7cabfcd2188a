"""Changing one's own password, in both doors; and the change that has to come before anything else."""

from collections.abc import Callable
from typing import Any, Protocol

from flask import Blueprint, redirect, request, session, url_for

from tamarack.core.identity.passwords import password_problem
from tamarack.store.audit import log as auditing
from tamarack.store.people.passwords import hash_password, verify_password
from tamarack.web.application import actor, db

FORM = "own_password.form"


class Owner(Protocol):
    """Whoever has a password: staff, or a person of an organization."""

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
        owner = me()
        assert owner is not None
        return render("own_password.html", must=owner.must_change_password, errors=errors)

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
        owner.session_epoch += 1  # every other session ends
        session["epoch"] = owner.session_epoch
        db().add(owner)
        auditing.record(db(), actor(owner.email), "change password", owner.email)
        db().commit()
        return redirect(url_for(afterwards), code=303)

    return pages
