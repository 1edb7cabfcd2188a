"""Signing in and out, and changing a password: in the browser, and by a door for programs that speaks JSON."""

from typing import Any

from flask import Blueprint, current_app, jsonify, redirect, request, url_for

from tamarack.core.sign_in.password_rules import Broken
from tamarack.sign_in import codes
from tamarack.sign_in.onwards import onwards
from tamarack.sign_in.page import directory_named, render, signed_in
from tamarack.store.people.attempts import TooManyAttempts, account_of, succeeded
from tamarack.store.sign_in import log
from tamarack.store.sign_in.tables import Directory, EndUser
from tamarack.store.sign_in.users import change_password, sign_in_user, user_with
from tamarack.web.application import db, settings_of
from tamarack.web.people.signed_in import leave, let_in
from tamarack.web.people.waiting import wait_for_attempt

pages = Blueprint("door", __name__)
programs = Blueprint("door_for_programs", __name__)

_WRONG = "The mail address or the password is not right."
_TOO_MANY = "Too many failed attempts from here. Try again in a quarter of an hour."


def _checked(directory: Directory, email: str, password: str) -> EndUser | None:
    """Who signs in; None where account or password is wrong. Raises `TooManyAttempts`."""
    where, address = f"sign-in {directory.name}", request.remote_addr or ""
    wait_for_attempt(db(), where, email, address, settings_of(current_app).sign_in_attempts)
    user = sign_in_user(db(), directory.name, email, password)
    if user is not None:
        succeeded(db(), where, email, address)
        return user
    known = user_with(db(), directory.name, account_of(email))
    why = "no such user" if known is None else "wrong password" if known.active else "locked, or wrong password"
    log.note(db(), directory.name, "sign in", user=known, who=email, why=why, refused=True, address=address)
    db().commit()
    return None


@pages.get("/<directory>/sign-in")
def form(directory: str) -> Any:
    found = directory_named(directory)
    target = onwards(found, request.args.get("next", ""))
    return render("sign_in.html", found, email="", next=target, error="", done="set" in request.args)


@pages.post("/<directory>/sign-in")
def sign_in(directory: str) -> Any:
    found = directory_named(directory)
    email, target = request.form.get("email", ""), onwards(found, request.form.get("next", ""))
    try:
        user = _checked(found, email, request.form.get("password", ""))
    except TooManyAttempts:
        return render("sign_in.html", found, email=email, next=target, error=_TOO_MANY), 429
    if user is None:
        db().rollback()
        return render("sign_in.html", found, email=email, next=target, error=_WRONG), 422
    if user.has_codes:
        db().commit()
        return codes.begin(user, target)
    let_in(user.id, user.session_epoch)
    log.note(db(), directory, "sign in", user=user, address=request.remote_addr or "")
    db().commit()
    if user.must_change_password:
        return redirect(url_for("door.password", directory=directory, next=target), code=303)
    return redirect(target, code=303)


@pages.post("/<directory>/sign-out")
def sign_out(directory: str) -> Any:
    directory_named(directory)
    leave()
    db().commit()
    return redirect(url_for("door.form", directory=directory), code=303)


@pages.get("/<directory>/password")
def password(directory: str) -> Any:
    found, user = signed_in(directory)
    return _password_page(found, user, [], "")


def _password_page(directory: Directory, user: EndUser, broken: list[Broken], wrong: str) -> str:
    target = onwards(directory, request.values.get("next", ""))
    return render("password.html", directory, user=user, broken=broken, wrong=wrong, next=target)


@pages.post("/<directory>/password")
def change(directory: str) -> Any:
    """Change one's password; the present one is asked for again."""
    found, user = signed_in(directory)
    try:
        same = _checked(found, user.email, request.form.get("old", ""))
    except TooManyAttempts:
        return _password_page(found, user, [], _TOO_MANY), 429
    if same is None:
        db().rollback()
        return _password_page(found, user, [], "That is not your present password."), 422
    broken = change_password(db(), same, request.form.get("new", ""))
    if broken:
        db().rollback()
        return _password_page(found, user, broken, ""), 422
    let_in(same.id, same.session_epoch)
    log.note(db(), directory, "change the password", user=same, address=request.remote_addr or "")
    db().commit()
    return redirect(onwards(found, request.form.get("next", "")), code=303)


@programs.post("/<directory>/password.json")
def change_by_program(directory: str) -> Any:
    """The same for programs: `email`, `password`, `new`, and `code` where one is asked for.

    An error names each rule that the new password breaks.
    """
    found = directory_named(directory)
    sent = request.get_json(silent=True) if (request.content_length or 0) < 10_000 else None
    typed = (
        {name: str(value) for name, value in sent.items() if isinstance(value, str)} if isinstance(sent, dict) else {}
    )
    if not all(typed.get(name) for name in ("email", "password", "new")):
        words = "send a JSON object with email, password and new, each a text"
        return jsonify(title="The request cannot be read", detail=words, errors=[]), 400
    try:
        user = _checked(found, typed["email"], typed["password"])
    except TooManyAttempts:
        return jsonify(title="Too many attempts", detail=_TOO_MANY, errors=[]), 429
    if user is None:
        db().rollback()
        return jsonify(title="Not signed in", detail=_WRONG, errors=[]), 401
    if user.has_codes:
        try:
            right = codes.is_right(found, user, typed.get("code", ""))
        except TooManyAttempts:
            return jsonify(title="Too many attempts", detail=_TOO_MANY, errors=[]), 429
        if not right:
            words = "the user has one-time codes: send a good one as code"
            return jsonify(title="Not signed in", detail=words, errors=[]), 401
    broken = change_password(db(), user, typed["new"])
    if broken:
        db().rollback()
        told = [{"rule": one.rule, "detail": one.words} for one in broken]
        return jsonify(title="The new password does not keep the rules", detail=broken[0].words, errors=told), 422
    log.note(db(), directory, "change the password", user=user, why="by a program", address=request.remote_addr or "")
    db().commit()
    return jsonify(changed=True)
