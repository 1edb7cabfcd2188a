"""What staff do on behalf of an organization: register an application, describe and share it, subscribe it."""

from typing import Any

from flask import Blueprint, abort, request

from tamarack.console.page import act, acting, back_to, requires, running
from tamarack.store.applications import changes as subscribing
from tamarack.store.applications import queries as subscribers
from tamarack.store.applications import sharing
from tamarack.store.applications.tables import Application
from tamarack.web.application import db, environments

pages = Blueprint("on_behalf", __name__, url_prefix="/subscribers")


def _application(id: str) -> Application:
    found = db().get(Application, id)
    if found is None:
        abort(404, "There is no such application.")
    return found


@pages.post("/<name>/applications")
@requires("subscribers")
def make_application(name: str) -> Any:
    owner = subscribers.organization_named(db(), name)
    if owner is None:
        abort(404, f"There is no organization {name}.")
    title, description = request.form.get("title", ""), request.form.get("description", "")
    made: list[Application] = []
    if act(lambda: made.append(subscribing.make_application(db(), acting(), owner, title, description)),
           f"{title.strip()} is registered for {owner.title}. Its leads see it; here it is shared with members,"
           " subscribed, and given credentials."):  # fmt: skip
        return back_to("subscribers.application", id=made[0].id)
    return back_to("subscribers.organization", name=name)


@pages.post("/applications/<id>/description")
@requires("subscribers")
def describe(id: str) -> Any:
    found = _application(id)
    picture = "" if request.form.get("no_picture") else found.picture
    title, description = request.form.get("title", ""), request.form.get("description", "")
    act(lambda: subscribing.describe_application(db(), acting(), found, title, description, picture),
        "The description is saved.")  # fmt: skip
    return back_to("subscribers.application", id=id)


@pages.post("/applications/<id>/share")
@requires("subscribers")
def share(id: str) -> Any:
    found = _application(id)
    act(lambda: sharing.share(db(), acting(), found, request.form.getlist("people")),
        f"It is said who looks after {found.title}.")  # fmt: skip
    return back_to("subscribers.application", id=id)


@pages.post("/applications/<id>/subscriptions")
@requires("subscribers")
def subscribe(id: str) -> Any:
    """Subscribe it to any plan, also one that its people do not see; staff who do so have approved it."""
    found = _application(id)
    environment = request.form.get("environment", "")
    if environment not in environments():
        abort(400, f"{environment!r} is not an environment.")
    product, _, plan = request.form.get("plan", "").partition("/")

    def subscribed() -> None:
        made = subscribing.subscribe(db(), acting(), running(environment)[1], found, product, plan, environment)
        if made.state == "pending":
            subscribing.approve(db(), acting(), running(environment)[1], made)

    act(subscribed, f"{found.title} is subscribed to {plan} of {product} in {environment}; nodes know within a second.")
    return back_to("subscribers.application", id=id)
