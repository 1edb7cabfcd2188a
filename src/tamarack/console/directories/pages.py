"""Directories of end users: their rules, and their users, found, made, locked, given a new password."""

import json
import re
from typing import Any

from flask import Blueprint, Response, abort, current_app, request, session
from pydantic import ValidationError

from tamarack.config.directories import entries, written
from tamarack.console.page import acting, back_to, done, render, requires
from tamarack.core.sign_in.password_rules import PasswordRules, in_words
from tamarack.core.text import line_problem
from tamarack.core.types import NAME_PATTERN, problems_of
from tamarack.store.audit import log as auditing
from tamarack.store.errors import NotPossible
from tamarack.store.lines import line_fault
from tamarack.store.people.sessions import end_one, sessions
from tamarack.store.sign_in import by_mail, codes, log, users
from tamarack.store.sign_in import grants as granting
from tamarack.store.sign_in.tables import Directory, EndUser
from tamarack.web.application import db, settings_of
from tamarack.web.numbers import whole
from tamarack.web.once import Once
from tamarack.web.paging import Paging
from tamarack.web.people.signed_in import idle

pages = Blueprint("directories", __name__, url_prefix="/settings/directories")

A_PAGE = 50
_RULES = ("digit", "upper", "lower", "sign", "well_known")
_NEW = "new_password"
_once = Once()
CODES = {
    "off": "by the password alone",
    "optional": "with a one-time code too, if they want",
    "required": "with a one-time code too, all of them",
}
"""How users of a directory sign in."""
_ACTS = {
    "require": (users.require_change, "{} chooses another password at the next sign-in."),
    "end": (users.end_sessions, "{} is signed out everywhere, and every token has ended."),
    "codes": (codes.turned_off_by_staff, "{} signs in without a code; sessions and tokens have ended."),
}
"""What staff do with a user at once, and what is said of it."""


def directory_of(name: str) -> Directory:
    """A directory, or 404."""
    found = db().get(Directory, name)
    if found is None:
        abort(404, f"There is no directory {name}.")
    return found


def _user(name: str, id: str) -> tuple[Directory, EndUser]:
    directory, found = directory_of(name), db().get(EndUser, id)
    if found is None or found.directory != name:
        abort(404, "There is no such user in this directory.")
    return directory, found


@pages.get("/")
@requires("see")
def index() -> Any:
    return _index({}, {})


def _index(typed: dict[str, Any], errors: dict[str, str]) -> str:
    known = users.directories(db())
    many = {one.name: users.find_users(db(), one.name, "", 1)[1] for one in known}
    return render("directories/index.html", tab="directories", directories=known, many=many, typed=typed, errors=errors,
                  in_words=in_words)  # fmt: skip


@pages.post("/")
@requires("edit")
def make() -> Any:
    """Make a directory, with the rules that it begins with."""
    typed = {"name": request.form.get("name", "").strip(), "title": request.form.get("title", "").strip()}
    errors = {}
    if not re.fullmatch(NAME_PATTERN.strip("^$"), typed["name"]):
        errors["name"] = "may hold only lower-case letters, digits and hyphens, starting with a letter"
    if wrong := line_fault(typed["title"], 120, "The title"):
        errors["title"] = wrong
    if errors:
        return _index(typed, errors), 422
    try:
        made = users.make_directory(db(), acting(), typed["name"], typed["title"], PasswordRules())
    except NotPossible as error:
        db().rollback()
        return _index(typed, {error.field or "name": str(error)}), 422
    db().commit()
    done(f"{made.title} is made.")
    return back_to("directories.page", name=made.name)


@pages.get("/directories.yaml")
@requires("see")
def as_file() -> Any:
    """All of them and their clients as a file, without secrets and users."""
    answer = Response(written(entries(db())), mimetype="application/yaml")
    answer.headers["Content-Disposition"] = "attachment; filename=directories.yaml"
    return answer


@pages.get("/<name>/")
@requires("see")
def page(name: str) -> Any:
    return _page(directory_of(name), {}, {})


def _page(directory: Directory, typed: dict[str, Any], errors: dict[str, str]) -> str:
    text = request.args.get("q", "").strip()[:100]
    _, total = users.find_users(db(), directory.name, text, 1)
    paging = Paging.of_request(total, A_PAGE)
    found, _ = users.find_users(db(), directory.name, text, A_PAGE, paging.skip)
    rules = {name: getattr(directory.password_rules, name) for name in ("shortest", *_RULES)}
    own = {one: getattr(directory, one) for one in 
           ("title", "access_minutes", "refresh_days", "sign_up", "active", "codes")}  # fmt: skip
    shown = {**own, **rules, "email": "", "user": ""}
    return render(
        "directories/page.html", tab="directories", directory=directory, users=found, paging=paging, q=text,
        typed=shown | typed, errors=errors, rules={n: PasswordRules.model_fields[n].title for n in _RULES},
        rules_in_words=in_words(directory.password_rules), codes=CODES,
    )  # fmt: skip


@pages.post("/<name>/")
@requires("edit")
def change(name: str) -> Any:
    """Change a directory's title, lifetimes and rules."""
    directory = directory_of(name)
    form = request.form
    typed: dict[str, Any] = {
        one: form.get(one, "").strip() for one in ("title", "shortest", "access_minutes", "refresh_days")
    }
    typed["codes"] = form.get("codes", directory.codes)
    typed |= {one: one in form for one in (*_RULES, "sign_up", "active")}
    errors = {}
    for one, least, most in (("access_minutes", 1, 1_440), ("refresh_days", 1, 365)):
        number = whole(typed[one])
        if number is None or not least <= number <= most:
            errors[one] = f"{typed[one][:20]!r} is not a number from {least} to {most:,}"
    if wrong := line_fault(typed["title"], 120, "The title"):
        errors["title"] = wrong
    if typed["codes"] not in CODES:
        errors["codes"] = "choose how users sign in"
    try:
        rules = PasswordRules.model_validate({one: typed[one] for one in ("shortest", *_RULES)})
    except ValidationError as error:
        errors |= {problem.field: problem.message for problem in problems_of(error)}
    if errors:
        return _page(directory, typed, errors), 422
    directory.title, directory.active, directory.sign_up = typed["title"], typed["active"], typed["sign_up"]
    directory.codes = typed["codes"]
    directory.rules = rules.model_dump(mode="json")
    directory.access_minutes, directory.refresh_days = int(typed["access_minutes"]), int(typed["refresh_days"])
    db().add(directory)
    auditing.record(db(), acting(), "change directory", name)
    db().commit()
    done("Saved. New passwords keep these rules; tokens that are made from now on live so long.")
    return back_to("directories.page", name=name)


@pages.post("/<name>/users")
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
        return _page(directory, typed, {{"name": "user"}.get(error.field, error.field) or "email": str(error)}), 422
    db().commit()
    session[_NEW] = _once.put((made.id, password))
    return back_to("directories.user", name=name, id=made.id)


@pages.get("/<name>/users/<id>")
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


@pages.post("/<name>/users/<id>/password")
@requires("subscribers")
def reset(name: str, id: str) -> Any:
    """Give a user a temporary password, shown once; their sessions and tokens end."""
    _, found = _user(name, id)
    password = users.reset_password(db(), acting(), found)
    db().commit()
    session[_NEW] = _once.put((found.id, password))
    return back_to("directories.user", name=name, id=id)


@pages.post("/<name>/users/<id>/act")
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
    return back_to("directories.user", name=name, id=id)


@pages.post("/<name>/users/<id>/sessions/<session_id>/end")
@requires("subscribers")
def end_session(name: str, id: str, session_id: str) -> Any:
    """End one session of a user."""
    _, found = _user(name, id)
    end_one(db(), "sign-in", found.id, session_id)
    auditing.record(db(), acting(), "end session of user", found.id, directory=name)
    db().commit()
    done("The session has ended.")
    return back_to("directories.user", name=name, id=id)


@pages.post("/<name>/users/<id>/applications/<client>/end")
@requires("subscribers")
def take_back(name: str, id: str, client: str) -> Any:
    """Take back, for a user, what they agreed to for a client."""
    _, found = _user(name, id)
    granting.end_consent(db(), found.id, client)
    auditing.record(db(), acting(), "take back consent of user", found.id, directory=name, client=client[:80])
    db().commit()
    done("What was agreed to has ended; the client's tokens for this user are refused within a second.")
    return back_to("directories.user", name=name, id=id)


@pages.post("/<name>/users/<id>/state")
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
    return back_to("directories.user", name=name, id=id)


@pages.post("/<name>/users/<id>/facts")
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
    return back_to("directories.user", name=name, id=id)
