"""Clients of the sign-in service, as an application's people make and revoke them."""

from typing import Any

from flask import Blueprint, abort, current_app, request, session

from tamarack.core.sign_in.scopes import STANDARD
from tamarack.portal.page import acting, back_to, done, environments_for, my_application, offered, render, requires
from tamarack.store.errors import NotPossible
from tamarack.store.sign_in import clients
from tamarack.store.sign_in.tables import Directory, SignInClient
from tamarack.store.sign_in.users import directories
from tamarack.web.application import db, environments, gateway_address, settings_of
from tamarack.web.once import Once
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

pages = Blueprint("clients", __name__, url_prefix="/applications/<id>/clients")

_NEW = "new_client"
_once = Once()


def _scopes() -> list[tuple[str, str]]:
    """The scopes that the APIs offer which the reader may see."""
    return scopes_of([api for where in environments().on_portal for api in offered(where).apis])


def _form(id: str, typed: dict[str, Any], errors: dict[str, str]) -> str:
    application = my_application(id)
    return render(
        "applications/clients/new.html",
        application=application,
        typed=typed,
        errors=errors,
        directories=[one for one in directories(db()) if one.active],
        environments=environments_for(application),
        grants=clients.GRANTS,
        scopes=_scopes(),
    )


@pages.get("/new")
@requires("credentials")
def new(id: str) -> Any:
    return _form(id, BLANK, {})


@pages.post("/")
@requires("credentials")
def make(id: str) -> Any:
    """Make a client; its secret is shown once."""
    application, typed = my_application(id), typed_in(request.form) | {"access_minutes": ""}
    try:
        client, secret = made(acting(), application, typed, _scopes(), environments_for(application))
    except NotPossible as error:
        db().rollback()
        return _form(id, typed, {error.field or "title": str(error)}), 422
    db().commit()
    session[_NEW] = _once.put((client.id, secret))
    return back_to("clients.page", id=id, client=client.id)


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
        gateway=gateway_address(found.environment),
        standard=STANDARD,
        words=dict(_scopes()),
        grants=clients.GRANTS,
    )


@pages.route("/<client>/edit", methods=["GET", "POST"])
@requires("credentials")
def edit(id: str, client: str) -> Any:
    """Change what a client may do."""
    found, scopes = _client(id, client), _scopes()
    typed, errors = typed_of(found), {}
    if request.method == "POST":
        kept = {name: typed[name] for name in ("directory", "environment", "confidential", "access_minutes")}
        typed = typed_in(request.form) | kept
        try:
            clients.change_client(db(), acting(), found, spec_in(typed, scopes, found.scopes))
        except NotPossible as error:
            db().rollback()
            errors[error.field or "title"] = str(error)
        else:
            db().commit()
            done("Saved. It holds from the next request on.")
            return back_to("clients.page", id=id, client=found.id)
    page = render("applications/clients/edit.html", application=my_application(id), client=found, typed=typed,
                  errors=errors, grants=clients.GRANTS, scopes=scopes)  # fmt: skip
    return page, 422 if errors else 200


@pages.post("/<client>/secret")
@requires("credentials")
def replace_secret(id: str, client: str) -> Any:
    """Another secret, shown once; the present one goes on for as long as was chosen."""
    found = _client(id, client)
    secret = replaced_secret(acting(), found)
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
