"""Forms for clients of the sign-in service, which console and portal share: what was typed, and what it asks for."""

from __future__ import annotations

from collections.abc import Collection
from datetime import timedelta
from typing import Any

from flask import abort, current_app, request
from werkzeug.datastructures import MultiDict

from tamarack.core.configuration.model import Api
from tamarack.store.applications.tables import Application
from tamarack.store.audit.log import Actor
from tamarack.store.errors import NotPossible
from tamarack.store.sign_in import clients
from tamarack.store.sign_in.clients import ClientSpec
from tamarack.store.sign_in.tables import Directory, SignInClient
from tamarack.web.application import db, settings_of
from tamarack.web.numbers import whole

OVERLAPS = {"1": "a day", "7": "a week", "30": "30 days", "0": "not at all"}
"""For how many days the secret before a new one goes on."""
BLANK: dict[str, Any] = {
    "title": "", "directory": "", "environment": "", "confidential": "yes", "redirects": "", "after_sign_out": "",
    "access_minutes": "", "grants": [clients.CODE, clients.REFRESH], "scopes": [], "application": "",
}  # fmt: skip
"""The form as it is first shown."""


def typed_of(client: SignInClient) -> dict[str, Any]:
    """The form as it stands for a client."""
    return BLANK | {
        "title": client.title,
        "directory": client.directory,
        "environment": client.environment,
        "confidential": "yes" if client.confidential else "no",
        "redirects": "\n".join(client.redirects),
        "after_sign_out": "\n".join(client.after_sign_out),
        "access_minutes": str(client.access_minutes or ""),
        "grants": list(client.grants),
        "scopes": list(client.scopes),
    }


def typed_in(form: MultiDict[str, str]) -> dict[str, Any]:
    """What was typed; what a form does not ask for is as in a blank one."""
    typed: dict[str, Any] = {
        name: form.get(name, value).strip() for name, value in BLANK.items() if isinstance(value, str)
    }
    return typed | {"grants": form.getlist("grants"), "scopes": form.getlist("scopes")}


def scopes_of(apis: list[Api]) -> list[tuple[str, str]]:
    """The scopes that APIs offer, with what they let a client do."""
    found = {one.name: f"{api.title}: {one.words}" for api in apis for one in api.scopes}
    return sorted(found.items())


def spec_in(typed: dict[str, Any], scopes: list[tuple[str, str]], held: list[str] | None = None) -> ClientSpec:
    """What a form asks for. Scopes that are `held` already stay possible. Raises `NotPossible`."""
    known = {*dict(scopes), *(held or ())}
    unknown = next((one for one in typed["scopes"] if one not in known), None)
    if unknown is not None:
        raise NotPossible(f"{unknown[:60]!r} is no scope that an API here offers", "scopes")
    minutes = whole(typed["access_minutes"] or "0")
    if minutes is None:
        raise NotPossible(f"{typed['access_minutes'][:20]!r} is no number of minutes", "access_minutes")
    return ClientSpec(
        typed["title"],
        typed["grants"],
        _lines(typed["redirects"]),
        typed["scopes"],
        typed["confidential"] == "yes",
        _lines(typed["after_sign_out"]),
        minutes,
    )


def _lines(text: str) -> list[str]:
    return [line.strip() for line in text.splitlines() if line.strip()]


def made(
    actor: Actor,
    application: Application,
    typed: dict[str, Any],
    scopes: list[tuple[str, str]],
    allowed: Collection[str],
) -> tuple[SignInClient, str]:
    """Make the client that a form asks for, in one of the environments allowed; returns its secret too. Raises
    `NotPossible`."""
    directory = db().get(Directory, typed["directory"])
    if directory is None or not directory.active:
        raise NotPossible("choose whose users sign in", "directory")
    if typed["environment"] not in allowed:
        raise NotPossible("choose an environment", "environment")
    pepper = settings_of(current_app).keys.raw("pepper")
    return clients.make_client(
        db(), actor, application, directory, typed["environment"], spec_in(typed, scopes), pepper
    )


def replaced_secret(actor: Actor, client: SignInClient) -> str:
    """Another secret for a client; the present one goes on for as long as this request's form says."""
    chosen = request.form.get("keep", "")
    if chosen not in OVERLAPS:
        abort(400, "Choose how long the present secret goes on.")
    pepper = settings_of(current_app).keys.raw("pepper")
    try:
        return clients.replace_secret(db(), actor, client, timedelta(days=int(chosen)), pepper)
    except NotPossible as error:
        abort(409, f"{client.title}: {error}.")
