"""Credentials of an application, as its people make and change them."""

from typing import Any

from flask import Blueprint, abort, request

from tamarack.core.identity.credentials import KIND_TITLES
from tamarack.portal.page import acting, back_to, done, environments_for, my_application, render, requires
from tamarack.store.applications.tables import Application, Credential
from tamarack.web.application import db
from tamarack.web.people import credential_pages
from tamarack.web.people.credential_pages import OVERLAPS, OWN_KINDS, Typed

pages = Blueprint("credentials", __name__, url_prefix="/applications/<id>/credentials")


def _credential(id: str, credential: str) -> tuple[Application, Credential]:
    application = my_application(id)
    found = db().get(Credential, credential)
    if found is None or found.application_id != application.id:
        abort(404, "There is no such credential.")
    return application, found


@pages.get("/new")
@requires("credentials")
def new(id: str) -> Any:
    kind = request.args.get("kind", "api-key")
    return _new_page(my_application(id), credential_pages.blank(kind if kind in OWN_KINDS else "api-key"))


def _new_page(application: Application, typed: Typed) -> str:
    return render("applications/credentials/new.html", application=application, typed=typed, kinds=OWN_KINDS,
                  titles=KIND_TITLES, environments=environments_for(application))  # fmt: skip


@pages.post("/")
@requires("credentials")
def make(id: str) -> Any:
    application = my_application(id)
    made, typed = credential_pages.make(acting(), application, OWN_KINDS, environments_for(application))
    if made is None:
        return _new_page(application, typed), 422
    return back_to("applications.page", id=id)


@pages.get("/<credential>")
@requires("credentials")
def page(id: str, credential: str) -> Any:
    application, found = _credential(id, credential)
    return _page(application, found, credential_pages.shown(found))


def _page(application: Application, found: Credential, typed: Typed) -> str:
    return render(
        "applications/credentials/page.html",
        application=application,
        one=found,
        state=credential_pages.state(found),
        typed=typed,
        overlaps=OVERLAPS,
        titles=KIND_TITLES,
    )


@pages.post("/<credential>")
@requires("credentials")
def act(id: str, credential: str) -> Any:
    application, found = _credential(id, credential)
    said, typed = credential_pages.act(acting(), found)
    if typed is not None:
        return _page(application, found, typed), 422
    done(said)
    return back_to("applications.page", id=id)
