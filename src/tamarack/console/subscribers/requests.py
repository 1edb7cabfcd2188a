"""The queue: people who ask to join, and access requests, answered in one place."""

from typing import Any

from flask import Blueprint, abort, current_app, request

from tamarack.console.page import act, acting, back_to, render, requires, running
from tamarack.console.subscribers.lists import A_PAGE, filters_of, listed
from tamarack.store.applications import changes as subscribing
from tamarack.store.applications import lists as subscriber_lists
from tamarack.store.applications import queries as subscribers
from tamarack.store.applications.tables import Application, Subscription
from tamarack.store.joining import queries as joining
from tamarack.store.joining.tables import JoinRequest
from tamarack.web.application import db, environments, settings_of
from tamarack.web.paging import Paging

pages = Blueprint("requests", __name__, url_prefix="/subscribers/requests")


@pages.get("/")
@requires("see")
def index() -> Any:
    filters = {**filters_of("environment"), "state": "waiting"}
    rows, paging = listed(subscriber_lists.subscriptions, filters)
    offers = {where: running(where)[1] for where in environments()}
    plans = {one.id: product.plans if (product := offers[one.environment].product(one.product)) is not None else ()
             for one, _, _ in rows}  # fmt: skip
    asking = joining.waiting(db())
    of_asking = Paging.of_request(len(asking), A_PAGE, "joining")
    return render(
        "subscribers/requests.html",
        tab="requests",
        rows=rows,
        paging=paging,
        filters=filters,
        plans=plans,
        joining=of_asking.cut(asking),
        of_joining=of_asking,
        all_organizations=[one for one, _, _ in subscribers.organizations(db())],
        waiting=subscriber_lists.waiting_count(db()) + len(asking),
    )


@pages.post("/<id>")
@requires("subscribers")
def decide(id: str) -> Any:
    """Approve an access request, on the plan asked for or another, or decline it with a reason."""
    found = db().get(Subscription, id)
    application = db().get(Application, found.application_id) if found is not None else None
    if found is None or application is None:
        abort(404, "There is no such request.")
    if request.form.get("act") == "decline":
        act(lambda: subscribing.decline(db(), acting(), found, request.form.get("reason", "")),
            f"{application.title} is told that the request was declined.")  # fmt: skip
    else:
        offered = running(found.environment)[1]
        plan = request.form.get("plan", "")
        act(
            lambda: subscribing.approve(db(), acting(), offered, found, plan),
            lambda: f"{application.title} is on {found.plan} of {found.product}; nodes know within a second.",
        )
    return back_to("requests.index")


@pages.post("/joining/<id>")
@requires("subscribers")
def decide_joining(id: str) -> Any:
    """Let someone in who signed up, into an organization there is or a new one; or turn them down."""
    wanted = db().get(JoinRequest, id)
    if wanted is None:
        abort(404, "There is no such request.")
    if request.form.get("act") == "decline":
        act(lambda: joining.decline(db(), acting(), wanted, request.form.get("reason", "")),
            f"{wanted.name} is told that the request was declined.")  # fmt: skip
        return back_to("requests.index")
    where, role = request.form.get("organization", ""), request.form.get("role", "member")

    titles = []

    def let_in() -> None:
        known = subscribers.organization_named(db(), where) if where else None
        into = known or joining.new_organization(db(), acting(), wanted.organization)
        titles.append(into.title)
        joining.approve(db(), acting(), wanted, into, role, settings_of(current_app).portal_url)

    act(let_in, lambda: f"{wanted.name} is in {titles[0]}, and is told by mail.")
    return back_to("requests.index")
