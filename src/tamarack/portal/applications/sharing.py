"""An application's description and picture, and the people whom it is shared with."""

from typing import Any

from flask import Blueprint, request

from tamarack.portal.page import act, acting, back_to, done, me, my_application, my_organization, render, requires
from tamarack.store.applications import changes as subscribing
from tamarack.store.applications import queries as subscribers
from tamarack.store.applications import sharing
from tamarack.store.applications.tables import Application
from tamarack.store.errors import NotPossible
from tamarack.store.portal.picture import keep_picture
from tamarack.web.application import db
from tamarack.web.pictures.upload import read_picture

pages = Blueprint("sharing", __name__, url_prefix="/applications/<id>/description")

PICTURE_SIDE = 192


def _page(application: Application, typed: dict[str, str], errors: dict[str, str]) -> str:
    people = [one for one in subscribers.people_of(db(), my_organization()) if one.active]
    return render(
        "applications/description.html",
        application=application,
        tab="description",
        typed=typed,
        errors=errors,
        people=people,
        shared={person.id for person in sharing.shared_with(db(), application)},
    )


@pages.get("/")
@requires("see")
def page(id: str) -> Any:
    application = my_application(id)
    return _page(application, {"title": application.title, "description": application.description}, {})


@pages.post("/")
@requires("applications")
def describe(id: str) -> Any:
    application = my_application(id)
    typed = {name: request.form.get(name, "").strip() for name in ("title", "description")}
    picture = "" if request.form.get("no_picture") else application.picture
    upload = request.files.get("picture")
    try:
        if upload is not None and upload.filename:
            picture = keep_picture(db(), read_picture(upload, PICTURE_SIDE, PICTURE_SIDE))
        subscribing.describe_application(db(), acting(), application, typed["title"], typed["description"], picture)
    except NotPossible as error:
        db().rollback()
        return _page(my_application(id), typed, {error.field or "title": str(error)}), 422
    db().commit()
    done("The description is saved.")
    return back_to("sharing.page", id=id)


@pages.post("/people")
@requires("applications")
def share(id: str) -> Any:
    """Say who sees and looks after it besides the leads."""
    application, person = my_application(id), me()
    wanted = request.form.getlist("people")
    if person is not None and person.role != "lead" and person.id not in wanted:
        wanted.append(person.id)  # nobody takes it away from themselves by a form that did not list them
    many = "one person" if len(set(wanted)) == 1 else f"{len(set(wanted))} people"
    said = f"{application.title} is shared with {many}, and with every lead."
    act(lambda: sharing.share(db(), acting(), application, wanted), said)
    return back_to("sharing.page", id=id)
