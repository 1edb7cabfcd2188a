"""Signing in and out, and the switch of environment."""

from typing import Any

from flask import Blueprint, current_app, redirect, render_template, request, session, url_for

from tamarack.console.page import acting, back_to, me
from tamarack.core.environments import ENVIRONMENTS
from tamarack.store import auditing
from tamarack.store.sign_in import TooManyAttempts, sign_in_staff
from tamarack.web.application import actor, db, settings_of
from tamarack.web.safe import safe_next

pages = Blueprint("sign_in", __name__)


@pages.get("/sign-in")
def form() -> Any:
    if me() is not None:
        return redirect(safe_next(request.args.get("next", "/")))
    return render_template("sign_in/form.html", email="", next=safe_next(request.args.get("next", "/")), error="")


@pages.post("/sign-in")
def sign_in() -> Any:
    email, password = request.form.get("email", ""), request.form.get("password", "")
    target = safe_next(request.form.get("next", "/"))
    attempts = settings_of(current_app).sign_in_attempts
    try:
        staff = sign_in_staff(db(), email, password, request.remote_addr or "", attempts)
    except TooManyAttempts:
        error = "Too many failed sign-ins from here or to this account. Try again in a quarter of an hour."
        return render_template("sign_in/form.html", email=email, next=target, error=error), 429
    if staff is None:
        db().commit()
        error = "The e-mail address or the password is not right."
        return render_template("sign_in/form.html", email=email, next=target, error=error), 422
    session.clear()
    session.permanent = True
    session["staff"] = staff.id
    session["epoch"] = staff.session_epoch
    auditing.record(db(), actor(staff.email), "sign in", staff.email)
    db().commit()
    return redirect(target, code=303)


@pages.post("/sign-out")
def sign_out() -> Any:
    if me() is not None:
        auditing.record(db(), acting(), "sign out", acting().name)
        db().commit()
    session.clear()
    return back_to("sign_in.form")


@pages.post("/environment")
def switch() -> Any:
    chosen = request.form.get("environment", "")
    if chosen in ENVIRONMENTS:
        session["environment"] = chosen
    return redirect(safe_next(request.form.get("next", url_for("overview.front"))), code=303)
