"""Signing up, taking up an invitation, and a forgotten password: asked for here, and done by a link in a mail."""

from typing import Any

from flask import Blueprint, abort, redirect, request, url_for

from tamarack.core.identity.mail_address import email_problem
from tamarack.core.sign_in.password_rules import Broken
from tamarack.sign_in.onwards import onwards
from tamarack.sign_in.page import directory_named, render
from tamarack.store.errors import NotPossible
from tamarack.store.joining import queries as asking
from tamarack.store.lines import line_fault
from tamarack.store.people.attempts import TooManyAttempts, account_of
from tamarack.store.sign_in import by_mail, log
from tamarack.store.sign_in.tables import Directory
from tamarack.web.application import actor, db
from tamarack.web.people.signed_in import let_in
from tamarack.web.people.waiting import wait_for_attempt

pages = Blueprint("by_mail", __name__)

_OFTEN = "Too many requests from here. Try again in a quarter of an hour."
LONGEST_NEXT = 1_500
"""Of the address to come back to, which travels in the mail; a longer one is left out."""


def _target(directory: Directory) -> str:
    """Where someone was on the way to, inside this directory."""
    found = onwards(directory, request.values.get("next", ""))
    return found if len(found) <= LONGEST_NEXT else onwards(directory, "")


def _ask(directory: Directory, purpose: str, email: str, **said: str) -> bool:
    """Note what is asked for, for the worker to answer; False where too much was asked from here."""
    try:
        wait_for_attempt(db(), f"mail {directory.name}", email, request.remote_addr or "", asking.MOST_ASKED)
    except TooManyAttempts:
        return False
    asking.ask(db(), purpose, email, {"directory": directory.name, "next": _target(directory), **said})
    db().commit()
    return True


@pages.get("/<directory>/forgot")
def forgot_form(directory: str) -> Any:
    found = directory_named(directory)
    return render("forgot.html", found, email="", error="", next=_target(found))


@pages.post("/<directory>/forgot")
def forgot(directory: str) -> Any:
    """Someone forgot the password; what they read is the same whether there is such a user or not."""
    found, email = directory_named(directory), account_of(request.form.get("email", ""))
    error, status = email_problem(email) or "", 422
    if not error and not _ask(found, "user-reset", email):
        error, status = _OFTEN, 429
    if error:
        return render("forgot.html", found, email=email, error=error, next=_target(found)), status
    words = f"If {email} has an account here, a mail with a link is on its way. It is good for an hour."
    return render("sent.html", found, words=words)


def _open_to_all(directory: str) -> Directory:
    found = directory_named(directory)
    if not found.sign_up:
        abort(404, "Nobody signs up here; accounts are made for their owners.")
    return found


@pages.get("/<directory>/sign-up")
def sign_up_form(directory: str) -> Any:
    found = _open_to_all(directory)
    return render("sign_up.html", found, email="", name="", errors={}, next=_target(found))


@pages.post("/<directory>/sign-up")
def sign_up(directory: str) -> Any:
    """Someone signs up; the password is chosen where the mail leads, by whoever reads it."""
    found, email = _open_to_all(directory), account_of(request.form.get("email", ""))
    name = request.form.get("name", "").strip()
    errors, status = {}, 422
    if problem := email_problem(email):
        errors["email"] = problem
    if problem := line_fault(name, 120, "The name"):
        errors["name"] = problem
    if not errors and not _ask(found, "user-sign-up", email, name=name):
        errors, status = {"email": _OFTEN}, 429
    if errors:
        return render("sign_up.html", found, email=email, name=name, errors=errors, next=_target(found)), status
    return render("sent.html", found, words=f"A mail is on its way to {email}. Follow the link in it.")


def _gone(directory: Directory) -> Any:
    return render("gone.html", directory), 410


@pages.route("/<directory>/join/<token>", methods=["GET", "POST"])
def join(directory: str, token: str) -> Any:
    """Asks for the password, so that what looks at mail for other reasons makes no account."""
    found = directory_named(directory)
    link = by_mail.joining(db(), found, token)
    if link is None:
        return _gone(found)
    broken: list[Broken] = []
    if request.method == "POST":
        try:
            made = by_mail.join(db(), actor("stranger"), found, token, request.form.get("password", ""))
        except NotPossible:
            db().rollback()
            return _gone(found)
        if not isinstance(made, list):
            let_in(made.id, made.session_epoch)
            log.note(db(), directory, "join", user=made, address=request.remote_addr or "")
            db().commit()
            return redirect(_target(found), code=303)
        broken = made
    page = render("join.html", found, email=link.email, name=link.made_by, broken=broken, next=_target(found))
    return page, 422 if broken else 200


@pages.route("/<directory>/reset/<token>", methods=["GET", "POST"])
def reset(directory: str, token: str) -> Any:
    """Set a new password by a link."""
    found = directory_named(directory)
    user = by_mail.resetting(db(), found, token)
    if user is None:
        return _gone(found)
    broken: list[Broken] = []
    if request.method == "POST":
        try:
            broken = by_mail.set_forgotten(db(), actor("stranger"), found, token, request.form.get("password", ""))
        except NotPossible:
            db().rollback()
            return _gone(found)
        if not broken:
            log.note(db(), directory, "set a forgotten password", user=user, address=request.remote_addr or "")
            db().commit()
            return redirect(url_for("door.form", directory=directory, next=_target(found), set="1"), code=303)
        db().rollback()
    page = render("join.html", found, email=user.email, name="", broken=broken, next=_target(found))
    return page, 422 if broken else 200
