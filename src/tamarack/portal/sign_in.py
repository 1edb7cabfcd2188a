"""Signing in and out."""

from typing import Any

from flask import Blueprint, current_app, redirect, render_template, request, session

from tamarack.portal.page import acting, back_to, me
from tamarack.store import auditing
from tamarack.store.sign_in import TooManyAttempts, sign_in_person
from tamarack.web.application import actor, db, settings_of
from tamarack.web.safe import safe_next

pages = Blueprint("sign_in", __name__)


@pages.get("/sign-in")
def form() -> Any:
    target = safe_next(request.args.get("next", "/"))
    if me() is not None:
        return redirect(target)
    return render_template("sign_in/form.html", email="", next=target, error="")


@pages.post("/sign-in")
def sign_in() -> Any:
    email, target = request.form.get("email", ""), safe_next(request.form.get("next", "/"))
    attempts = settings_of(current_app).sign_in_attempts
    try:
        person = sign_in_person(db(), email, request.form.get("password", ""), request.remote_addr or "", attempts)
    except TooManyAttempts:
        error = "Too many failed sign-ins from here or to this account. Try again in a quarter of an hour."
        return render_template("sign_in/form.html", email=email, next=target, error=error), 429
    if person is None:
        db().commit()
        error = "The e-mail address or the password is not right."
        return render_template("sign_in/form.html", email=email, next=target, error=error), 422
    session.clear()
    session.permanent = True
    session["person"] = person.id
    session["epoch"] = person.session_epoch
    auditing.record(db(), actor(person.email), "sign in", person.email)
    db().commit()
    return redirect(target, code=303)


@pages.post("/sign-out")
def sign_out() -> Any:
    if me() is not None:
        auditing.record(db(), acting(), "sign out", acting().name)
        db().commit()
    session.clear()
    return back_to("catalogue.index")
