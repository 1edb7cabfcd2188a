"""Applications: the list, and one with its keys, its subscriptions and its usage."""

from collections.abc import Sequence
from datetime import UTC, datetime
from typing import Any

from flask import Blueprint, abort, request

from tamarack.core.configuration.plans import Plan
from tamarack.core.identity.credentials import KIND_TITLES
from tamarack.core.trying.credential_examples import Given
from tamarack.core.trying.examples import as_curl, as_javascript, as_python
from tamarack.portal.applications.moving import still_called
from tamarack.portal.applications.usage import use_of_limits
from tamarack.portal.catalogue.one_api import example_call, view_of
from tamarack.portal.page import (
    act,
    acting,
    back_to,
    done,
    environments_for,
    me,
    my_application,
    my_organization,
    offered,
    open_to_me,
    reader,
    render,
    requires,
)
from tamarack.store.applications import changes as subscribing
from tamarack.store.applications import queries as subscribers
from tamarack.store.applications import sharing
from tamarack.store.applications.tables import Application, Credential, Subscription
from tamarack.store.errors import NotPossible
from tamarack.store.mail import telling
from tamarack.store.sign_in.clients import clients_of
from tamarack.store.sign_in.users import directories
from tamarack.store.traffic import overview as watching
from tamarack.web.application import db
from tamarack.web.paging import Paging
from tamarack.web.people import credential_pages
from tamarack.web.plan_table import plan_table

pages = Blueprint("applications", __name__, url_prefix="/applications")


A_PAGE = 20


def _index(typed: dict[str, str], errors: dict[str, str]) -> str:
    person = reader()
    search = " ".join(request.args.get("search", "").split())[:100]
    paging = Paging.of_request(sharing.count_seen(db(), person, search), A_PAGE)
    found = sharing.applications_seen(db(), person, search, paging.skip, A_PAGE)
    listed = [(one, [s for s in subscribers.subscriptions_of(db(), one) if s.state != "ended"]) for one in found]
    return render("applications/index.html", applications=listed, paging=paging, search=search, typed=typed,
                  errors=errors)  # fmt: skip


@pages.get("/")
@requires("see")
def index() -> Any:
    return _index({}, {})


@pages.post("/")
@requires("applications")
def make() -> Any:
    typed = {name: request.form.get(name, "") for name in ("title", "description")}
    try:
        application = subscribing.make_application(
            db(), acting(), my_organization(), typed["title"], typed["description"], maker=me()
        )
    except NotPossible as error:
        db().rollback()
        return _index(typed, {error.field: str(error)}), 422
    db().commit()
    done(f"{application.title} is registered. Subscribe it to an API next.")
    return back_to("applications.page", id=application.id)


def _offers(subscriptions: list[Subscription]) -> dict[str, tuple[str, Plan | None, list[Any]]]:
    """For each subscription: its product's title, its plan, and the versions of APIs it covers."""
    found = {}
    for one in subscriptions:
        configuration = offered(one.environment)
        product = configuration.product(one.product)
        plan = product.plan(one.plan) if product is not None else None
        covered = [
            (api, version)
            for api in configuration.apis
            if product is not None and api.name in product.apis
            for version in api.versions
            if version.state != "deprecated"
        ]
        found[one.id] = (product.title if product is not None else one.product, plan, covered)
    return found


@pages.get("/<id>")
@requires("see")
def page(id: str) -> Any:
    application = my_application(id)
    credentials = credential_pages.listed(subscribers.credentials_of(db(), application))
    of_credentials = Paging.of_request(len(credentials), A_PAGE, "credentials")
    subscriptions = list(subscribers.subscriptions_of(db(), application))
    offers = _offers(subscriptions)
    shown = credential_pages.take_new()
    if shown is not None and not any(one.id == shown["id"] for one, _ in credentials):
        shown = None
    organization = my_organization().name  # another organization may have an application of the same name
    filters = watching.call_filter(organization=organization, application=application.name, outcome="refused")
    refused = watching.calls(db(), filters, most=6)
    return render(
        "applications/page.html",
        tab="overview",
        application=application,
        credentials=of_credentials.cut(credentials),
        of_credentials=of_credentials,
        subscriptions=subscriptions,
        offers=offers,
        usage={one.id: use_of_limits(application, one, offers[one.id][1]) for one in subscriptions},
        new_key=shown,
        titles=KIND_TITLES,
        examples=_examples(credentials, subscriptions, offers, shown),
        refused=refused,
        ending=still_called(application),
        clients=clients_of(db(), application.id),
        has_directories=bool(directories(db())),
        environments=environments_for(application),
        plans={one.id: _plans_for(one) for one in subscriptions},
        notices=telling.notices(db(), reader(), most=4, application=application),
    )


def _plans_for(subscription: Subscription) -> tuple[Plan, ...]:
    """The plans that a subscription may change to."""
    product = open_to_me(subscription.environment).product(subscription.product)
    plans = product.plans if product is not None else ()
    return tuple(plan for plan in plans if plan.name != subscription.plan)


def _examples(
    credentials: Sequence[tuple[Credential, str]],
    subscriptions: list[Subscription],
    offers: dict[str, tuple[str, Plan | None, list[Any]]],
    shown: dict[str, str] | None,
) -> dict[str, str]:
    """A first call, ready to run: with the new key in it where one was just made."""
    given = None
    if shown is not None:
        kind = shown.get("kind", "api-key")
        value = f"{shown['public']}:{shown['value']}" if kind == "client-secret" else shown["value"]
        given = Given(value, kind)
    environment = next((one.environment for one, _ in credentials if shown and one.id == shown["id"]), "")
    for subscription in subscriptions:
        if subscription.state != "active" or (environment and subscription.environment != environment):
            continue
        covered = offers[subscription.id][2]
        came_from = (shown.get("api"), shown.get("version")) if shown is not None else ("", "")
        for api, version in sorted(covered, key=lambda pair: (pair[0].name, pair[1].version) != came_from):
            first = next((one for one in version.operations if one.method == "get" and "{" not in one.path), None)
            if first is None:
                continue
            call = example_call(api, version, view_of(version, first), subscription.environment, given)
            return {"curl": as_curl(call), "Python": as_python(call), "JavaScript": as_javascript(call)}
    return {}


def _my_subscription(application: Application, id: str) -> Subscription:
    """A subscription of an own application; any other is as if it were not there."""
    found = db().get(Subscription, id)
    if found is None or found.application_id != application.id:
        abort(404, "There is no such subscription.")
    return found


@pages.get("/<id>/subscriptions/<subscription>/plan")
@requires("see")
def compare_plans(id: str, subscription: str) -> Any:
    """The plans of a subscription's product side by side, to change to another."""
    application = my_application(id)
    found = _my_subscription(application, subscription)
    product = offered(found.environment).product(found.product)
    if product is None:
        abort(404, "This product is not offered any more.")
    return render(
        "applications/plans.html",
        application=application,
        subscription=found,
        product=product,
        table=plan_table(product.plans),
        open_plans={plan.name for plan in _plans_for(found)},
        changes_at=subscribing.plan_changes_at(plan, found, datetime.now(UTC))
        if (plan := product.plan(found.plan)) is not None
        else None,
    )


@pages.post("/<id>/subscriptions/<subscription>/plan")
@requires("subscribe")
def change_plan(id: str, subscription: str) -> Any:
    """Change to another plan now or at the period's end; where a person approves, ask for it."""
    application = my_application(id)
    found = _my_subscription(application, subscription)
    if request.form.get("act") == "keep":
        act(lambda: subscribing.keep_plan(db(), acting(), found), lambda: f"The subscription stays on {found.plan}.")
        return back_to("applications.page", id=id)
    wanted, later = request.form.get("plan", ""), request.form.get("when") == "period end"
    there, message = open_to_me(found.environment), request.form.get("message", "")
    act(lambda: subscribing.change_plan(db(), acting(), there, found, wanted, later, approved=False, message=message),
        lambda: _changed(found))  # fmt: skip
    return back_to("applications.page", id=id)


def _changed(subscription: Subscription) -> str:
    """What came of a change of plan, in words."""
    if subscription.next_at is not None:
        return f"The plan changes on {subscription.next_at:%d %B %Y at %H:%M} UTC. The credentials stay."
    if subscription.next_plan:
        return "The platform team is asked; until then the subscription stays as it is."
    return "The plan is changed; it holds within a second. The credentials stay."


@pages.post("/<id>/subscriptions/<subscription>/end")
@requires("subscribe")
def end_subscription(id: str, subscription: str) -> Any:
    application = my_application(id)
    found = _my_subscription(application, subscription)
    act(lambda: subscribing.set_subscription_state(db(), acting(), found, "ended"), "The subscription is ended.")
    return back_to("applications.page", id=id)
