"""Clients of the sign-in service, as an application's people make and revoke them."""

from datetime import timedelta
from typing import Any

from flask import Blueprint, abort, current_app, request, session

from tamarack.core.configuration.environments import ENVIRONMENTS
from tamarack.core.sign_in.scopes import STANDARD
from tamarack.portal.page import acting, back_to, done, my_application, offered, render, requires
from tamarack.store.errors import NotPossible
from tamarack.store.sign_in import clients
from tamarack.store.sign_in.tables import Directory, SignInClient
from tamarack.store.sign_in.users import directories
from tamarack.web.application import db, settings_of
from tamarack.web.once import Once

pages = Blueprint("clients", __name__, url_prefix="/applications/<id>/clients")

_NEW = "new_client"
OVERLAPS = {"1": "a day", "7": "a week", "30": "30 days", "0": "not at all"}
"""For how many days the secret before a new one goes on."""
_once = Once()


def _scopes() -> list[tuple[str, str]]:
    """The scopes that APIs offer, with what they let a client do."""
    found: dict[str, str] = {}
    for where in ENVIRONMENTS:
        for api in offered(where).apis:
            found |= {one.name: f"{api.title}: {one.words}" for one in api.scopes}
    return sorted(found.items())


def _typed() -> dict[str, Any]:
    form = request.form
    return {
        "title": form.get("title", "").strip(),
        "directory": form.get("directory", ""),
        "environment": form.get("environment", "test"),
        "confidential": form.get("confidential", "yes"),
        "grants": form.getlist("grants"),
        "redirects": form.get("redirects", ""),
        "scopes": form.getlist("scopes"),
    }


def _form(id: str, typed: dict[str, Any], errors: dict[str, str]) -> str:
    return render(
        "applications/clients/new.html",
        application=my_application(id),
        typed=typed,
        errors=errors,
        directories=[one for one in directories(db()) if one.active],
        environments=ENVIRONMENTS,
        grants=clients.GRANTS,
        scopes=_scopes(),
    )


@pages.get("/new")
@requires("credentials")
def new(id: str) -> Any:
    blank = {"title": "", "directory": "", "environment": "test", "confidential": "yes", "redirects": "",
             "grants": [clients.CODE, clients.REFRESH], "scopes": []}  # fmt: skip
    return _form(id, blank, {})


@pages.post("/")
@requires("credentials")
def make(id: str) -> Any:
    """Make a client; its secret is shown once."""
    application, typed = my_application(id), _typed()
    directory = db().get(Directory, typed["directory"])
    if directory is None or not directory.active:
        return _form(id, typed, {"directory": "choose whose users sign in"}), 422
    if typed["environment"] not in ENVIRONMENTS:
        return _form(id, typed, {"environment": "choose an environment"}), 422
    unknown = next((one for one in typed["scopes"] if one not in dict(_scopes())), None)
    if unknown is not None:
        return _form(id, typed, {"scopes": f"{unknown[:60]!r} is no scope that an API here offers"}), 422
    redirects = [line.strip() for line in typed["redirects"].splitlines() if line.strip()]
    try:
        made, secret = clients.make_client(
            db(), acting(), application, directory, typed["environment"], typed["title"], typed["grants"], redirects,
            typed["scopes"], typed["confidential"] == "yes", settings_of(current_app).keys.raw("pepper"),
        )  # fmt: skip
    except NotPossible as error:
        db().rollback()
        return _form(id, typed, {error.field or "title": str(error)}), 422
    db().commit()
    session[_NEW] = _once.put((made.id, secret))
    return back_to("clients.page", id=id, client=made.id)


def _client(id: str, client: str) -> SignInClient:
    application = my_application(id)
    found = db().get(SignInClient, client)
    if found is None or found.application_id != application.id:
        abort(404, "There is no such client.")
    return found


@pages.get("/<client>")
@requires("credentials")
def page(id: str, client: str) -> Any:
    found = _client(id, client)
    new_id, secret = _once.take(str(session.pop(_NEW, ""))) or ("", "")
    directory = db().get(Directory, found.directory)
    issuer = f"{settings_of(current_app).sign_in_url}/{found.directory}"
    return render(
        "applications/clients/page.html",
        application=my_application(id),
        client=found,
        secret=secret if new_id == found.id else "",
        overlaps=OVERLAPS,
        old_is_good=clients.old_secret_is_good(found),
        directory=directory,
        issuer=issuer,
        gateway=settings_of(current_app).gateway_url(found.environment),
        standard=STANDARD,
        words=dict(_scopes()),
        grants=clients.GRANTS,
    )


@pages.post("/<client>/secret")
@requires("credentials")
def replace_secret(id: str, client: str) -> Any:
    """Another secret, shown once; the present one goes on for as long as was chosen."""
    found = _client(id, client)
    chosen = request.form.get("keep", "")
    if chosen not in OVERLAPS:
        abort(400, "Choose how long the present secret goes on.")
    try:
        secret = clients.replace_secret(
            db(), acting(), found, timedelta(days=int(chosen)), settings_of(current_app).keys.raw("pepper")
        )
    except NotPossible as error:
        abort(409, f"{found.title}: {error}.")
    db().commit()
    session[_NEW] = _once.put((found.id, secret))
    return back_to("clients.page", id=id, client=found.id)


@pages.post("/<client>/secret/end")
@requires("credentials")
def end_old_secret(id: str, client: str) -> Any:
    """The secret before is refused from now on."""
    found = _client(id, client)
    clients.end_old_secret(db(), acting(), found)
    db().commit()
    done("The secret before is refused from now on.")
    return back_to("clients.page", id=id, client=found.id)


@pages.post("/<client>/revoke")
@requires("credentials")
def revoke(id: str, client: str) -> Any:
    """Revoke a client; what was granted to it ends within a second."""
    found = _client(id, client)
    clients.revoke_client(db(), acting(), found)
    db().commit()
    done(f"{found.title} is revoked; its tokens are refused from now on.")
    return back_to("applications.page", id=id)
