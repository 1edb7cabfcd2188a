"""Joining: signing up, confirming the address, taking up an invitation, and a password that was forgotten."""

from typing import Any

from flask import Blueprint, current_app, request

from tamarack.core.identity.mail_address import email_problem
from tamarack.core.text import line_problem
from tamarack.portal.page import back_to, done, render
from tamarack.store.errors import NotPossible
from tamarack.store.joining import queries as joining
from tamarack.store.joining.links import find_link
from tamarack.store.people.attempts import TooManyAttempts
from tamarack.store.people.tables import Organization
from tamarack.web.application import actor, db, settings_of
from tamarack.web.people.signed_in import let_in
from tamarack.web.people.waiting import wait_for_attempt

pages = Blueprint("joining", __name__)

_OFTEN = "Too many requests from here. Try again in a quarter of an hour."
_PROMISE = "A mail is on its way to {}. Follow the link in it."


def _portal() -> str:
    return settings_of(current_app).portal_url


def _gone(words: str) -> tuple[str, int]:
    return render("joining/gone.html", words=words), 410


@pages.get("/join")
def form() -> Any:
    return render("joining/sign_up.html", typed={}, errors={})


@pages.post("/join")
def sign_up() -> Any:
    typed = {name: request.form.get(name, "").strip() for name in ("email", "name", "organization", "message")}
    typed["email"] = typed["email"].lower()
    errors: dict[str, str] = {}
    if problem := email_problem(typed["email"]):
        errors["email"] = problem
    for name, most, words in (("name", 120, "your name"), ("organization", 80, "the organization that you belong to")):
        if not 1 <= len(typed[name]) <= most:
            errors[name] = f"give {words}, in 1 to {most} characters"
        elif problem := line_problem(typed[name]):
            errors[name] = problem
    if errors:
        return render("joining/sign_up.html", typed=typed, errors=errors), 422
    if _too_often(typed["email"]):
        return render("joining/sign_up.html", typed=typed, errors={"email": _OFTEN}), 429
    said = {name: typed[name] for name in ("name", "organization", "message")}
    joining.ask(db(), "sign-up", typed["email"], said)
    db().commit()
    return render("joining/sent.html", title="Check your mail", words=_PROMISE.format(typed["email"]))


def _too_often(email: str) -> bool:
    """Whether too much was asked from here lately; else this one counts, and takes as long as it has to."""
    try:
        wait_for_attempt(db(), "join", email, request.remote_addr or "", joining.MOST_ASKED)
    except TooManyAttempts:
        return True
    return False


@pages.get("/join/confirm/<token>")
def confirm_form(token: str) -> Any:
    """Asks for the password, so that what looks at mail for other reasons confirms nothing."""
    return _confirm(token, "")


def _confirm(token: str, error: str) -> Any:
    wanted = joining.to_confirm(db(), token)
    if wanted is None:
        return _gone("This link is no longer valid: it was used or is too old.")
    return render("joining/confirm.html", wanted=wanted, error=error)


@pages.post("/join/confirm/<token>")
def confirm(token: str) -> Any:
    try:
        wanted = joining.confirm(db(), actor("stranger"), token, request.form.get("password", ""))
    except NotPossible as error:
        db().rollback()
        shown = _confirm(token, str(error)) if error.field else _gone(str(error))
        return (shown, 422) if isinstance(shown, str) else shown
    db().commit()
    who = "a lead of your organization" if wanted.organization_id else "the platform team"
    words = f"{who[0].upper()}{who[1:]} decides; you will hear from them by mail."
    return render("joining/sent.html", title="Your address is confirmed", words=words)


@pages.get("/invitation/<token>")
def invitation_form(token: str) -> Any:
    return _invitation(token, "", {})


def _invitation(token: str, name: str, errors: dict[str, str]) -> Any:
    link = find_link(db(), token, "invite")
    organization = db().get(Organization, link.organization_id) if link is not None else None
    if link is None or organization is None:
        return _gone("This invitation is no longer valid: it was used, withdrawn, or is too old. Ask for another.")
    return render("joining/invitation.html", link=link, inviting=organization, name=name, errors=errors)


@pages.post("/invitation/<token>")
def take_up(token: str) -> Any:
    name = request.form.get("name", "")
    try:
        person = joining.take_up(db(), actor("stranger"), token, name, request.form.get("password", ""))
    except NotPossible as error:
        db().rollback()
        shown = _invitation(token, name, {error.field or "name": str(error)})
        return (shown, 422) if isinstance(shown, str) else shown
    let_in(person.id, person.session_epoch)
    db().commit()
    done(f"Welcome, {person.name}. You are signed in; next time use {person.email} and the password that you chose.")
    return back_to("applications.index")


@pages.get("/forgot")
def forgot_form() -> Any:
    return render("joining/forgot.html", email="", error="")


@pages.post("/forgot")
def forgot() -> Any:
    email = request.form.get("email", "").strip().lower()
    problem = email_problem(email)
    if problem:
        return render("joining/forgot.html", email=email, error=problem), 422
    if _too_often(email):
        return render("joining/forgot.html", email=email, error=_OFTEN), 429
    joining.ask(db(), "reset", email)
    db().commit()
    words = f"If {email} has an account here, a mail with a link is on its way. It is good for an hour."
    return render("joining/sent.html", title="Check your mail", words=words)


@pages.get("/reset/<token>")
def reset_form(token: str) -> Any:
    return _reset(token, "")


def _reset(token: str, error: str) -> Any:
    link = find_link(db(), token, "reset")
    if link is None:
        return _gone("This link is no longer valid: it was used, is older than an hour, or a newer one was sent.")
    return render("joining/reset.html", email=link.email, error=error)


@pages.post("/reset/<token>")
def reset(token: str) -> Any:
    try:
        joining.set_forgotten(db(), actor("stranger"), token, request.form.get("password", ""))
    except NotPossible as error:
        db().rollback()
        shown = _reset(token, str(error))
        return (shown, 422) if isinstance(shown, str) else shown
    db().commit()
    done("The new password is set, and every session of yours is ended. Sign in with it.")
    return back_to("sign_in.form")
