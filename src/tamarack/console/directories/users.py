"""Users of a directory: made, invited, found, given a new password, signed out, locked, their groups and claims set."""

import json
from typing import Any

from flask import Blueprint, abort, current_app, request, session

from tamarack.console.directories.pages import directory_of, directory_page
from tamarack.console.page import acting, back_to, done, render, requires
from tamarack.core.text import line_problem
from tamarack.store.audit import log as auditing
from tamarack.store.errors import NotPossible
from tamarack.store.people.sessions import end_one, sessions
from tamarack.store.sign_in import by_mail, codes, log, users
from tamarack.store.sign_in import grants as granting
from tamarack.store.sign_in.tables import Directory, EndUser
from tamarack.web.application import db, settings_of
from tamarack.web.once import Once
from tamarack.web.people.signed_in import idle

pages = Blueprint("directory_users", __name__, url_prefix="/settings/directories/<name>/users")

_NEW = "new_password"
_once = Once()
_ACTS = {
    "require": (users.require_change, "{} chooses another password at the next sign-in."),
    "end": (users.end_sessions, "{} is signed out everywhere, and every token has ended."),
    "codes": (codes.turned_off_by_staff, "{} signs in without a code; sessions and tokens have ended."),
}
"""What staff do with a user at once, and what is said of it."""


def _user(name: str, id: str) -> tuple[Directory, EndUser]:
    directory, found = directory_of(name), db().get(EndUser, id)
    if found is None or found.directory != name:
        abort(404, "There is no such user in this directory.")
    return directory, found


@pages.post("")
@requires("subscribers")
def add(name: str) -> Any:
    """Ask a user in by mail, or make one with a temporary password that is shown once."""
    directory = directory_of(name)
    typed = {"email": request.form.get("email", "").strip(), "user": request.form.get("user", "").strip()}
    password = users.temporary_password(directory.password_rules)
    try:
        if request.form.get("how") == "invite":
            service = settings_of(current_app).sign_in_url
            by_mail.invite(db(), acting(), directory, typed["email"], typed["user"], service)
            db().commit()
            done(f"{typed['email']} is asked in by mail; the link is good for seven days.")
            return back_to("directories.page", name=name)
        made = users.make_user(db(), acting(), directory, typed["email"], typed["user"], password)
    except NotPossible as error:
        db().rollback()
        return directory_page(
            directory, typed, {{"name": "user"}.get(error.field, error.field) or "email": str(error)}
        ), 422
    db().commit()
    session[_NEW] = _once.put((made.id, password))
    return back_to("directory_users.user", name=name, id=made.id)


@pages.get("/<id>")
@requires("see")
def user(name: str, id: str) -> Any:
    return _user_page(*_user(name, id), {}, {})


def _user_page(directory: Directory, found: EndUser, typed: dict[str, str], errors: dict[str, str]) -> str:
    whose, password = _once.take(str(session.pop(_NEW, ""))) or ("", "")
    shown = {
        "groups": "\n".join(found.groups),
        "claims": json.dumps(found.claims, ensure_ascii=False) if found.claims else "",
    }
    return render(
        "directories/user.html", tab="directories", directory=directory, user=found, typed=shown | typed, errors=errors,
        password=password if whose == found.id else "", sessions=sessions(db(), "sign-in", found.id, idle()),
        agreed=granting.agreements(db(), found.id),
        events=log.events(db(), directory.name, user_id=found.id, most=10)[0],
    )  # fmt: skip


@pages.post("/<id>/password")
@requires("subscribers")
def reset(name: str, id: str) -> Any:
    """Give a user a temporary password, shown once; their sessions and tokens end."""
    _, found = _user(name, id)
    password = users.reset_password(db(), acting(), found)
    db().commit()
    session[_NEW] = _once.put((found.id, password))
    return back_to("directory_users.user", name=name, id=id)


@pages.post("/<id>/act")
@requires("subscribers")
def act(name: str, id: str) -> Any:
    """Require another password, end sessions or turn codes off."""
    _, found = _user(name, id)
    chosen = request.form.get("act", "")
    if chosen not in _ACTS:
        abort(400, "Choose what to do with the user.")
    do, words = _ACTS[chosen]
    do(db(), acting(), found)
    db().commit()
    done(words.format(found.name))
    return back_to("directory_users.user", name=name, id=id)


@pages.post("/<id>/sessions/<session_id>/end")
@requires("subscribers")
def end_session(name: str, id: str, session_id: str) -> Any:
    """End one session of a user."""
    _, found = _user(name, id)
    end_one(db(), "sign-in", found.id, session_id)
    auditing.record(db(), acting(), "end session of user", found.id, directory=name)
    db().commit()
    done("The session has ended.")
    return back_to("directory_users.user", name=name, id=id)


@pages.post("/<id>/applications/<client>/end")
@requires("subscribers")
def take_back(name: str, id: str, client: str) -> Any:
    """Take back, for a user, what they agreed to for a client."""
    _, found = _user(name, id)
    granting.end_consent(db(), found.id, client)
    auditing.record(db(), acting(), "take back consent of user", found.id, directory=name, client=client[:80])
    db().commit()
    done("What was agreed to has ended; the client's tokens for this user are refused within a second.")
    return back_to("directory_users.user", name=name, id=id)


@pages.post("/<id>/state")
@requires("subscribers")
def state(name: str, id: str) -> Any:
    """Lock a user, or let them in again."""
    _, found = _user(name, id)
    users.set_active(db(), acting(), found, request.form.get("active") == "yes")
    db().commit()
    done(
        f"{found.name} may sign in again."
        if found.active
        else f"{found.name} is locked; sessions and tokens have ended."
    )
    return back_to("directory_users.user", name=name, id=id)


@pages.post("/<id>/facts")
@requires("subscribers")
def facts(name: str, id: str) -> Any:
    """Set a user's groups and claims, which the next token carries."""
    directory, found = _user(name, id)
    typed = {"groups": request.form.get("groups", ""), "claims": request.form.get("claims", "").strip()}
    groups = [line.strip() for line in typed["groups"].splitlines() if line.strip()]
    errors = {}
    if any(line_problem(one) or len(one) > 60 for one in groups) or len(groups) > 60:
        errors["groups"] = "write at most 60 groups, one a line, each of at most 60 characters"
    claims: Any = {}
    try:
        claims = json.loads(typed["claims"] or "{}")
    except (ValueError, RecursionError):
        errors["claims"] = 'is not JSON; write an object like {"loyalty": "gold"}'
    if not isinstance(claims, dict):
        errors["claims"] = 'is no object; write one like {"loyalty": "gold"}'
    if not errors:
        try:
            users.set_facts(db(), acting(), found, list(dict.fromkeys(groups)), claims)
        except NotPossible as error:
            db().rollback()
            errors[error.field or "claims"] = str(error)
    if errors:
        return _user_page(directory, found, typed, errors), 422
    db().commit()
    done("Saved; the next token carries them.")
    return back_to("directory_users.user", name=name, id=id)
