"""Credentials of an application, as staff make and change them on its behalf."""

from typing import Any

from flask import Blueprint, abort, request

from tamarack.console.page import acting, back_to, done, render, requires
from tamarack.core.identity.credentials import KIND_TITLES
from tamarack.store.applications.tables import Application, Credential
from tamarack.web.application import db, environments
from tamarack.web.people import credential_pages
from tamarack.web.people.credential_pages import OVERLAPS, Typed

pages = Blueprint("credentials", __name__, url_prefix="/subscribers/applications/<id>/credentials")


def _application(id: str) -> Application:
    found = db().get(Application, id)
    if found is None:
        abort(404, "There is no such application.")
    return found


def _credential(id: str, credential: str) -> tuple[Application, Credential]:
    application = _application(id)
    found = db().get(Credential, credential)
    if found is None or found.application_id != id:
        abort(404, "There is no such credential.")
    return application, found


@pages.get("/new")
@requires("subscribers")
def new(id: str) -> Any:
    return _new_page(_application(id), credential_pages.blank(request.args.get("kind", "api-key")))


def _new_page(application: Application, typed: Typed) -> str:
    return render("subscribers/credentials/new.html", application=application, typed=typed, kinds=tuple(KIND_TITLES),
                  titles=KIND_TITLES)  # fmt: skip


@pages.post("/")
@requires("subscribers")
def make(id: str) -> Any:
    application = _application(id)
    made, typed = credential_pages.make(acting(), application, tuple(KIND_TITLES), environments().names)
    if made is None:
        return _new_page(application, typed), 422
    done(f"{KIND_TITLES[made.credential.kind]} {made.credential.hint} works from now on.")
    return back_to("subscribers.application", id=id)


@pages.get("/<credential>")
@requires("see")
def page(id: str, credential: str) -> Any:
    application, found = _credential(id, credential)
    return _page(application, found, credential_pages.shown(found))


def _page(application: Application, found: Credential, typed: Typed) -> str:
    return render(
        "subscribers/credentials/page.html",
        application=application,
        one=found,
        state=credential_pages.state(found),
        typed=typed,
        overlaps=OVERLAPS,
        titles=KIND_TITLES,
    )


@pages.post("/<credential>")
@requires("subscribers")
def act(id: str, credential: str) -> Any:
    application, found = _credential(id, credential)
    said, typed = credential_pages.act(acting(), found)
    if typed is not None:
        return _page(application, found, typed), 422
    done(said)
    return back_to("subscribers.application", id=id)
