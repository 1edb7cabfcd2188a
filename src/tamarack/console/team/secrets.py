"""The secret store: names and where they are used, setting and rotating; a value is never shown."""

from datetime import timedelta
from typing import Any

from flask import Blueprint, current_app, request

from tamarack.console.page import acting, back_to, done, draft, refuse, render, requires, running
from tamarack.core.configuration.environments import ENVIRONMENTS
from tamarack.core.configuration.model import secrets_used
from tamarack.store.errors import NotPossible
from tamarack.store.secrets import queries as store
from tamarack.web.application import db, settings_of
from tamarack.web.numbers import whole

pages = Blueprint("secrets", __name__, url_prefix="/settings/secrets")

OVERLAPS = (("0", "ends at once"), ("1", "1 hour"), ("24", "1 day"), ("168", "7 days"))
"""Hours that the value before is still accepted, with words."""
_FIELDS = ("name", "value", "environment", "summary", "overlap")


def _used() -> dict[str, dict[str, list[str]]]:
    """For each secret that is named anywhere: the places, by draft and environment."""
    found: dict[str, dict[str, list[str]]] = {}
    sources = [("the draft", draft()), *((where, running(where)[1]) for where in ENVIRONMENTS)]
    for title, configuration in sources:
        for name, places in secrets_used(configuration).items():
            found.setdefault(name, {})[title] = places
    return found


def _page(typed: dict[str, str], errors: dict[str, str]) -> str:
    listed = store.all_secrets(db())
    used = _used()
    return render(
        "team/secrets.html",
        tab="secrets",
        listed=[(one, store.values_of(db(), one.name)) for one in listed],
        used=used,
        missing=sorted(set(used) - {one.name for one in listed}),
        overlaps=OVERLAPS,
        typed=typed,
        errors=errors,
    )


@pages.get("/")
@requires("see")
def index() -> Any:
    return _page({"name": request.args.get("name", "")}, {})


@pages.post("/")
@requires("secrets")
def put() -> Any:
    """Set a secret, or rotate it. What was typed is kept on an error, but for the value."""
    typed = {name: request.form.get(name, "") for name in _FIELDS}
    hours = whole(typed["overlap"], most=10_000) or 0
    key = settings_of(current_app).keys.credentials.sealing
    try:
        store.set_secret(
            db(),
            acting(),
            key,
            typed["name"].strip(),
            typed["value"].strip() if "-----BEGIN" not in typed["value"] else typed["value"],
            typed["environment"],
            typed["summary"] or None,
            timedelta(hours=hours),
        )
    except NotPossible as error:
        db().rollback()
        return _page(typed | {"value": ""}, {error.field or "name": str(error)}), 422
    db().commit()
    done(f"The secret {typed['name'].strip()} is set. Nodes use it within a second.")
    return back_to("secrets.index")


@pages.post("/<name>/remove")
@requires("secrets")
def remove(name: str) -> Any:
    used = _used().get(name, {})
    running_in = [title for title in used if title in ENVIRONMENTS]
    if running_in:
        places = ", ".join(used[running_in[0]])
        refuse(f"{name} is used by {places} in {' and '.join(running_in)}. Roll out without it first.")
        return back_to("secrets.index")
    try:
        store.remove_secret(db(), acting(), name)
    except NotPossible as error:
        db().rollback()
        refuse(str(error))
        return back_to("secrets.index")
    db().commit()
    done(f"The secret {name} is removed.")
    return back_to("secrets.index")
