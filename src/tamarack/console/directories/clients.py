"""Clients of a directory, as staff see them all, make them for an application, change and revoke them."""

from typing import Any

from flask import Blueprint, abort, current_app, request, session
from sqlmodel import col, func, select

from tamarack.console.directories.pages import A_PAGE, directory_of
from tamarack.console.page import acting, back_to, done, render, requires
from tamarack.store.applications.tables import Application
from tamarack.store.columns import now
from tamarack.store.errors import NotPossible
from tamarack.store.rollouts import queries as rolling
from tamarack.store.sign_in import clients, grants
from tamarack.store.sign_in.tables import Directory, SignInClient, SignInGrant
from tamarack.web.application import db, environments, settings_of
from tamarack.web.once import Once
from tamarack.web.paging import Paging
from tamarack.web.sign_in_clients import (
    BLANK,
    OVERLAPS,
    made,
    replaced_secret,
    scopes_of,
    spec_in,
    typed_in,
    typed_of,
)

pages = Blueprint("sign_in_clients", __name__, url_prefix="/settings/directories/<name>/clients")

_NEW = "new_client"
_once = Once()
_ACTS = {
    "end-secret": (clients.end_old_secret, "The secret of {} before the present one is refused from now on."),
    "end-tokens": (grants.end_granted, "Whatever {} was granted has ended; its tokens are refused within a second."),
    "revoke": (clients.revoke_client, "{} is revoked; its tokens are refused from now on."),
}
"""What staff do with a client at once, and what is said of it."""
MOST_OFFERED = 1_000
"""Applications that the form offers while a name is typed."""


def _scopes() -> list[tuple[str, str]]:
    return scopes_of([api for where in environments() for api in rolling.running_configuration(db(), where).apis])


@pages.get("/")
@requires("see")
def index(name: str) -> Any:
    directory, text = directory_of(name), request.args.get("q", "").strip()[:100]
    _, total = clients.find_clients(db(), name, text, 1)
    paging = Paging.of_request(total, A_PAGE)
    found, _ = clients.find_clients(db(), name, text, A_PAGE, paging.skip)
    return render("directories/clients/index.html", tab="directories", directory=directory, clients=found, q=text,
                  paging=paging, grants=clients.GRANTS)  # fmt: skip


def _form(directory: Directory, typed: dict[str, Any], errors: dict[str, str]) -> str:
    known = db().exec(select(Application).order_by(Application.title).limit(MOST_OFFERED)).all()
    return render("directories/clients/new.html", tab="directories", directory=directory, typed=typed, errors=errors,
                  applications=known, grants=clients.GRANTS, scopes=_scopes())  # fmt: skip


@pages.get("/new")
@requires("subscribers")
def new(name: str) -> Any:
    return _form(directory_of(name), BLANK | {"application": request.args.get("application", "")[:80]}, {})


@pages.post("/")
@requires("subscribers")
def make(name: str) -> Any:
    """Make a client for an application; its secret is shown once."""
    directory, typed = directory_of(name), typed_in(request.form) | {"directory": name}
    application = db().exec(select(Application).where(Application.name == typed["application"])).first()
    if application is None:
        return _form(directory, typed, {"application": f"there is no application {typed['application'][:60]!r}"}), 422
    try:
        client, secret = made(acting(), application, typed, _scopes(), environments().names)
    except NotPossible as error:
        db().rollback()
        return _form(directory, typed, {error.field or "title": str(error)}), 422
    db().commit()
    session[_NEW] = _once.put((client.id, secret))
    return back_to("sign_in_clients.page", name=name, client=client.id)


def _client(name: str, client: str) -> tuple[Directory, SignInClient]:
    directory, found = directory_of(name), db().get(SignInClient, client)
    if found is None or found.directory != name:
        abort(404, "There is no such client in this directory.")
    return directory, found


@pages.get("/<client>")
@requires("see")
def page(name: str, client: str) -> Any:
    return _page(*_client(name, client), {}, {})


def _page(directory: Directory, found: SignInClient, typed: dict[str, Any], errors: dict[str, str]) -> str:
    new_id, secret = _once.take(str(session.pop(_NEW, ""))) or ("", "")
    scopes = _scopes()
    users = select(func.count(func.distinct(SignInGrant.user_id))).where(
        SignInGrant.client_id == found.id, col(SignInGrant.ended_at).is_(None), col(SignInGrant.expires_at) > now()
    )
    return render(
        "directories/clients/page.html",
        tab="directories",
        directory=directory,
        client=found,
        application=db().get_one(Application, found.application_id),
        secret=secret if new_id == found.id else "",
        typed=typed or typed_of(found),
        errors=errors,
        scopes=scopes,
        words=dict(scopes),
        grants=clients.GRANTS,
        issuer=f"{settings_of(current_app).sign_in_url}/{directory.name}",
        overlaps=OVERLAPS,
        old_is_good=clients.old_secret_is_good(found),
        users=db().exec(users).one(),
    )


@pages.post("/<client>")
@requires("subscribers")
def change(name: str, client: str) -> Any:
    """Change what a client may do."""
    directory, found = _client(name, client)
    typed = typed_in(request.form)
    try:
        clients.change_client(db(), acting(), found, spec_in(typed, _scopes(), found.scopes))
    except NotPossible as error:
        db().rollback()
        return _page(directory, found, typed, {error.field or "title": str(error)}), 422
    db().commit()
    done("Saved. It holds from the next request on.")
    return back_to("sign_in_clients.page", name=name, client=client)


@pages.post("/<client>/secret")
@requires("subscribers")
def replace_secret(name: str, client: str) -> Any:
    """Another secret, shown once; the present one goes on for as long as was chosen."""
    _, found = _client(name, client)
    secret = replaced_secret(acting(), found)
    db().commit()
    session[_NEW] = _once.put((found.id, secret))
    return back_to("sign_in_clients.page", name=name, client=client)


@pages.post("/<client>/act")
@requires("subscribers")
def act(name: str, client: str) -> Any:
    """Refuse the secret before, end the client's tokens, or revoke it: within a second."""
    _, found = _client(name, client)
    chosen = request.form.get("act", "")
    if chosen not in _ACTS:
        abort(400, "Choose what to do with the client.")
    do, words = _ACTS[chosen]
    do(db(), acting(), found)
    db().commit()
    done(words.format(found.title))
    return back_to("sign_in_clients.page", name=name, client=client)
