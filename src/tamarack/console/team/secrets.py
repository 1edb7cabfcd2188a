"""The secret store: names and where they are used, setting and rotating; a value is never shown."""

from datetime import timedelta
from typing import Any

from flask import Blueprint, current_app, request

from tamarack.console.page import acting, back_to, done, draft, refuse, render, requires, running
from tamarack.core.configuration.model import least_secrets, secrets_used
from tamarack.core.identity.secret_facts import read_hosts
from tamarack.store.errors import NotPossible
from tamarack.store.secrets import queries as store
from tamarack.web.application import db, environments, settings_of
from tamarack.web.numbers import whole

pages = Blueprint("secrets", __name__, url_prefix="/settings/secrets")

OVERLAPS = (("0", "ends at once"), ("1", "1 hour"), ("24", "1 day"), ("168", "7 days"))
"""Hours that the value before is still accepted, with words."""
_FIELDS = ("name", "value", "environment", "summary", "overlap", "hosts")
NOWHERE = "nowhere"
"""What is typed for a secret that is to be sent to no host any more."""


def _used() -> dict[str, dict[str, list[str]]]:
    """For each secret that is named anywhere: the places, by draft and environment."""
    found: dict[str, dict[str, list[str]]] = {}
    sources = [("the draft", draft()), *((where, running(where)[1]) for where in environments())]
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
        environment_choices=[("", "every environment"), *((one, f"{one} only") for one in environments())],
        typed=typed,
        errors=errors,
    )


@pages.get("/")
@requires("see")
def index() -> Any:
    name = request.args.get("name", "")
    known = next((one for one in store.all_secrets(db()) if one.name == name), None)
    return _page({"name": name, "hosts": "\n".join(known.hosts) if known is not None else ""}, {})


@pages.post("/")
@requires("secrets")
def put() -> Any:
    """Set a secret, or rotate it. What was typed is kept on an error, but for the value."""
    typed = {name: request.form.get(name, "") for name in _FIELDS}
    hours = whole(typed["overlap"], most=10_000) or 0
    key = settings_of(current_app).keys.credentials.sealing
    name = typed["name"].strip()
    least = max(least_secrets(one).get(name, 0) for one in (draft(), *(running(where)[1] for where in environments())))
    try:
        hosts = _hosts(typed["hosts"])
        store.set_secret(
            db(),
            acting(),
            key,
            name,
            typed["value"].strip() if "-----BEGIN" not in typed["value"] else typed["value"],
            typed["environment"],
            typed["summary"] or None,
            timedelta(hours=hours),
            hosts,
            least,
        )
    except NotPossible as error:
        db().rollback()
        return _page(typed | {"value": ""}, {error.field or "name": str(error)}), 422
    db().commit()
    done(f"The secret {name} is set. Nodes use it within a second.")
    return back_to("secrets.index")


def _hosts(typed: str) -> tuple[str, ...] | None:
    """The hosts that were typed; None where nothing was, which changes nothing. Raises `NotPossible`."""
    words = typed.replace(",", " ").split()
    if words == [NOWHERE]:
        return ()
    try:
        return read_hosts(words) or None
    except ValueError as error:
        raise NotPossible(f"{error}.", "hosts") from error


@pages.post("/<name>/remove")
@requires("secrets")
def remove(name: str) -> Any:
    used = _used().get(name, {})
    running_in = [title for title in used if title in environments()]
    if running_in:
        places = ", ".join(used[running_in[0]])
        refuse(f"{name} is used by {places} in {' and '.join(running_in)}. Roll out a configuration without it first.")
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
