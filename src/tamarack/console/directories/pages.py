"""Directories of end users: made, their rules and lifetimes changed, their users found, all of them as a file."""

import re
from typing import Any

from flask import Blueprint, Response, abort, request
from pydantic import ValidationError

from tamarack.config.directories import entries, written
from tamarack.console.page import acting, back_to, done, render, requires
from tamarack.core.sign_in.password_rules import PasswordRules, in_words
from tamarack.core.types import NAME_PATTERN, problems_of
from tamarack.store.audit import log as auditing
from tamarack.store.errors import NotPossible
from tamarack.store.lines import line_fault
from tamarack.store.sign_in import users
from tamarack.store.sign_in.tables import Directory
from tamarack.web.application import db
from tamarack.web.numbers import whole
from tamarack.web.paging import Paging

pages = Blueprint("directories", __name__, url_prefix="/settings/directories")

A_PAGE = 50
_RULES = ("digit", "upper", "lower", "sign", "well_known")
CODES = {
    "off": "by the password alone",
    "optional": "with a one-time code too, if they want",
    "required": "with a one-time code too, all of them",
}
"""How users of a directory sign in."""


def directory_of(name: str) -> Directory:
    """A directory, or 404."""
    found = db().get(Directory, name)
    if found is None:
        abort(404, f"There is no directory {name}.")
    return found


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
    return directory_page(directory_of(name), {}, {})


def directory_page(directory: Directory, typed: dict[str, Any], errors: dict[str, str]) -> str:
    """A directory with its users; what was typed stays on an error."""
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
        return directory_page(directory, typed, errors), 422
    directory.title, directory.active, directory.sign_up = typed["title"], typed["active"], typed["sign_up"]
    directory.codes = typed["codes"]
    directory.rules = rules.model_dump(mode="json")
    directory.access_minutes, directory.refresh_days = int(typed["access_minutes"]), int(typed["refresh_days"])
    db().add(directory)
    auditing.record(db(), acting(), "change directory", name)
    db().commit()
    done("Saved. New passwords keep these rules; tokens that are made from now on live so long.")
    return back_to("directories.page", name=name)
