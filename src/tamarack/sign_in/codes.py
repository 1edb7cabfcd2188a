"""One-time codes: shown after the password, set up and turned off on one's own page."""

from __future__ import annotations

import time
from typing import Any

import segno
from flask import Blueprint, current_app, redirect, request, session, url_for

from tamarack.core.identity.sealing import NotSealedHere
from tamarack.core.sign_in.one_time_codes import address_for, in_base32
from tamarack.sign_in.onwards import onwards
from tamarack.sign_in.page import directory_named, render, signed_in
from tamarack.store.people.attempts import TooManyAttempts, succeeded
from tamarack.store.sign_in import codes, log
from tamarack.store.sign_in.codes import CodeKeys
from tamarack.store.sign_in.tables import Directory, EndUser
from tamarack.web.application import db, settings_of
from tamarack.web.people.signed_in import leave, let_in
from tamarack.web.people.waiting import wait_for_attempt

pages = Blueprint("codes", __name__)

HALF_IN_S = 600
"""How long a password that was right waits for its code."""
_HALF, _SECRET = "half_in", "code_secret"
_WRONG = "That is not the code that your device shows now. Each is good once, and for a minute."
_TOO_MANY = "Too many codes that were not right. Try again in a quarter of an hour."


def keys() -> CodeKeys:
    """What secrets are sealed and hashed with."""
    kept = settings_of(current_app).keys
    return CodeKeys(kept.raw("secrets"), kept.raw("pepper"))


def is_right(directory: Directory, user: EndUser, typed: str) -> bool:
    """Whether a user shows a good code, which is used up. Raises `TooManyAttempts`."""
    where, address = f"code {directory.name}", request.remote_addr or ""
    wait_for_attempt(db(), where, user.id, address, settings_of(current_app).sign_in_attempts)
    if codes.check(db(), user, typed, keys()):
        succeeded(db(), where, user.id, address)
        return True
    db().rollback()
    log.note(db(), directory.name, "sign in", user=user, why="wrong one-time code", refused=True, address=address)
    db().commit()
    return False


def begin(user: EndUser, target: str) -> Any:
    """A user whose password was right goes on to show a code."""
    leave()
    session[_HALF] = {"user": user.id, "epoch": user.session_epoch, "at": time.time(), "next": target}
    return redirect(url_for("codes.show", directory=user.directory), code=303)


def _half_in(directory: Directory) -> tuple[EndUser, str] | None:
    """Whose password was right in this browser a little while ago, and where they were going."""
    half = session.get(_HALF) or {}
    if not half or half["at"] < time.time() - HALF_IN_S:
        return None
    user = db().get(EndUser, half["user"])
    if user is None or not user.active or user.session_epoch != half["epoch"] or user.directory != directory.name:
        return None
    return user, onwards(directory, half["next"])


@pages.route("/<directory>/code", methods=["GET", "POST"])
def show(directory: str) -> Any:
    """The code, after the password."""
    found = directory_named(directory)
    half = _half_in(found)
    if half is None:
        return redirect(url_for("door.form", directory=directory))
    user, target = half
    if request.method == "GET":
        return render("codes/code.html", found, next=target, error="")
    try:
        right = is_right(found, user, request.form.get("code", ""))
    except TooManyAttempts:
        return render("codes/code.html", found, next=target, error=_TOO_MANY), 429
    if not right:
        return render("codes/code.html", found, next=target, error=_WRONG), 422
    let_in(user.id, user.session_epoch)
    log.note(db(), directory, "sign in", user=user, why="with a one-time code", address=request.remote_addr or "")
    db().commit()
    return redirect(target, code=303)


@pages.route("/<directory>/codes", methods=["GET", "POST"])
def set_up(directory: str) -> Any:
    """Set codes up: the secret is shown, and kept when a code that was made from it is typed."""
    found, user = signed_in(directory)
    target = onwards(found, request.values.get("next", ""))
    if found.codes == "off" or user.has_codes:
        return redirect(target)
    sealed = str(session.get(_SECRET, ""))
    if request.method == "POST" and sealed:
        return _turned_on(found, user, sealed, target)
    return _secret_page(found, user, _secret_of(user, sealed), target, "")


def _secret_of(user: EndUser, sealed: str) -> bytes:
    """The secret that this browser is setting up; another where it was begun for someone else."""
    try:
        return codes.opened(user, sealed, keys())
    except NotSealedHere:
        session[_SECRET] = codes.new_code_secret(user, keys())
        return codes.opened(user, session[_SECRET], keys())


def _secret_page(directory: Directory, user: EndUser, secret: bytes, target: str, error: str) -> str:
    picture = segno.make(address_for(secret, directory.title, user.email), error="m")
    return render("codes/set_up.html", directory, secret=in_base32(secret), next=target, error=error,
                  picture=picture.svg_inline(scale=4, border=2, light="#fff"))  # fmt: skip


def _turned_on(directory: Directory, user: EndUser, sealed: str, target: str) -> Any:
    where, address = f"code {directory.name}", request.remote_addr or ""
    secret = _secret_of(user, sealed)
    try:
        wait_for_attempt(db(), where, user.id, address, settings_of(current_app).sign_in_attempts)
    except TooManyAttempts:
        return _secret_page(directory, user, secret, target, _TOO_MANY), 429
    spare = codes.turn_on(db(), user, session[_SECRET], request.form.get("code", ""), keys())
    if not spare:
        return _secret_page(directory, user, secret, target, _WRONG), 422
    succeeded(db(), where, user.id, address)
    let_in(user.id, user.session_epoch)
    log.note(db(), directory.name, "turn on one-time codes", user=user, address=address)
    db().commit()
    return render("codes/spare.html", directory, spare=spare, next=target)


@pages.post("/<directory>/codes/off")
def turn_off(directory: str) -> Any:
    """Turn codes off, by a last one; where the directory asks for them they stay."""
    found, user = signed_in(directory)
    back = url_for("mine.page", directory=directory)
    if found.codes == "required" or not user.has_codes:
        return redirect(back, code=303)
    try:
        right = is_right(found, user, request.form.get("code", ""))
    except TooManyAttempts:
        return render("codes/off.html", found, error=_TOO_MANY), 429
    if not right:
        return render("codes/off.html", found, error=_WRONG), 422
    codes.turn_off(db(), user)
    log.note(db(), directory, "turn off one-time codes", user=user, address=request.remote_addr or "")
    db().commit()
    return redirect(back, code=303)
