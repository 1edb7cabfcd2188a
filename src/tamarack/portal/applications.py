"""Applications: the list, and one with its keys, its subscriptions and its usage."""

from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from typing import Any

from flask import Blueprint, abort, request

from tamarack.core.credential_examples import KEY_PLACE
from tamarack.core.credentials import KIND_TITLES
from tamarack.core.environments import ENVIRONMENTS
from tamarack.core.examples import as_curl, as_javascript, as_python
from tamarack.core.plans import Plan
from tamarack.portal.page import (
    acting,
    back_to,
    done,
    my_application,
    my_organization,
    offered,
    refuse,
    render,
    requires,
)
from tamarack.portal.reference import example_call, views
from tamarack.store import quotas, subscribers, subscribing, telling, watching
from tamarack.store.application import Application, Credential, Subscription
from tamarack.store.subscribing import NotPossible
from tamarack.web import credential_pages
from tamarack.web.application import db
from tamarack.web.plan_table import plan_table

pages = Blueprint("applications", __name__, url_prefix="/applications")


@pages.get("/")
@requires("see")
def index() -> Any:
    organization = my_organization()
    listed = [
        (one, [s for s in subscribers.subscriptions_of(db(), one) if s.state != "ended"])
        for one in subscribers.applications_of(db(), organization)
    ]
    return render("applications/index.html", applications=listed, typed={}, errors={})


@pages.post("/")
@requires("applications")
def make() -> Any:
    typed = {name: request.form.get(name, "") for name in ("title", "description")}
    organization = my_organization()
    try:
        application = subscribing.make_application(db(), acting(), organization, typed["title"], typed["description"])
    except NotPossible as error:
        db().rollback()
        listed: list[Any] = [(one, []) for one in subscribers.applications_of(db(), my_organization())]
        errors = {error.field: str(error)}
        return render("applications/index.html", applications=listed, typed=typed, errors=errors), 422
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
            if version.state in ("published", "preview")
        ]
        found[one.id] = (product.title if product is not None else one.product, plan, covered)
    return found


def _usage(application: Application, subscription: Subscription, plan: Plan | None) -> list[tuple[str, int, int]]:
    """For each limit of a plan: its words, what was used in the running window, and the limit."""
    if plan is None:
        return []
    used = []
    quota = quotas.use_of(db(), subscription, plan)
    if quota is not None:
        used.append((f"{plan.quota.brief if plan.quota is not None else ''}", quota[0], quota[1].limit))
    present = datetime.now(UTC)
    for window in plan.limits:
        if window.seconds < 60 or window.algorithm == "bucket":
            continue  # too short to look at, or without a stretch that could be used up
        whole = int(present.timestamp())
        start = whole - (window.seconds if window.algorithm == "sliding" else whole % window.seconds)
        span = watching.Span(
            datetime.fromtimestamp(start, UTC),
            present.replace(second=0, microsecond=0) + timedelta(minutes=1),
            {
                "environment": subscription.environment,
                "organization": my_organization().name,
                "application": application.name,
                "plan": f"{subscription.product}/{subscription.plan}",
            },
        )
        counted = watching.totals(db(), span)
        used.append((window.brief, counted.answered + counted.failed, window.limit))
    return used


@pages.get("/<id>")
@requires("see")
def page(id: str) -> Any:
    application = my_application(id)
    credentials = credential_pages.listed(subscribers.credentials_of(db(), application))
    subscriptions = list(subscribers.subscriptions_of(db(), application))
    offers = _offers(subscriptions)
    shown = credential_pages.take_new()
    if shown is not None and not any(one.id == shown["id"] for one, _ in credentials):
        shown = None
    organization = my_organization().name  # another organization may have an application of the same name
    filters = watching.CallFilter(organization=organization, application=application.name, outcome="refused")
    refused = watching.calls(db(), filters, most=6)
    return render(
        "applications/page.html",
        application=application,
        credentials=credentials,
        subscriptions=subscriptions,
        offers=offers,
        usage={one.id: _usage(application, one, offers[one.id][1]) for one in subscriptions},
        new_key=shown,
        titles=KIND_TITLES,
        examples=_examples(credentials, subscriptions, offers, shown),
        refused=refused,
        environments=ENVIRONMENTS,
        plans={one.id: _plans_for(one) for one in subscriptions},
        notices=[one for one in telling.notices(db(), my_organization()) if one.application_id == application.id][:4],
    )


def _plans_for(subscription: Subscription) -> tuple[Plan, ...]:
    """The plans that a subscription may change to."""
    product = offered(subscription.environment).product(subscription.product)
    plans = product.plans if product is not None else ()
    return tuple(plan for plan in plans if plan.name != subscription.plan)


def _examples(
    credentials: Sequence[tuple[Credential, str]],
    subscriptions: list[Subscription],
    offers: dict[str, tuple[str, Plan | None, list[Any]]],
    shown: dict[str, str] | None,
) -> dict[str, str]:
    """A first call, ready to run: with the new key in it where one was just made."""
    made = shown is not None and shown.get("kind", "api-key") == "api-key"
    key = shown["value"] if made and shown is not None else KEY_PLACE
    environment = next((one.environment for one, _ in credentials if shown and one.id == shown["id"]), "")
    for subscription in subscriptions:
        if subscription.state != "active" or (environment and subscription.environment != environment):
            continue
        covered = offers[subscription.id][2]
        came_from = (shown.get("api"), shown.get("version")) if shown is not None else ("", "")
        for api, version in sorted(covered, key=lambda pair: (pair[0].name, pair[1].version) != came_from):
            _, operations = views(version)
            first = next((view for view in operations if view.method == "get" and "{" not in view.path), None)
            if first is None:
                continue
            call = example_call(api, version, first, subscription.environment, key)
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
    later = request.form.get("when") == "period end"
    try:
        if request.form.get("act") == "keep":
            subscribing.keep_plan(db(), acting(), found)
            said = f"The subscription stays on {found.plan}."
        else:
            wanted = request.form.get("plan", "")
            subscribing.change_plan(db(), acting(), offered(found.environment), found, wanted, later, approved=False)
            if found.next_at is not None:
                said = f"The plan changes on {found.next_at:%d %B %Y at %H:%M} UTC. The credentials stay."
            elif found.next_plan:
                said = "The platform team is asked; until then the subscription stays as it is."
            else:
                said = "The plan is changed; it holds within a second. The credentials stay."
    except NotPossible as error:
        db().rollback()
        refuse(str(error))
    else:
        db().commit()
        done(said)
    return back_to("applications.page", id=id)


@pages.post("/<id>/subscriptions/<subscription>/end")
@requires("subscribe")
def end_subscription(id: str, subscription: str) -> Any:
    application = my_application(id)
    found = _my_subscription(application, subscription)
    try:
        subscribing.set_subscription_state(db(), acting(), found, "ended")
    except NotPossible as error:
        refuse(str(error))
    else:
        db().commit()
        done("The subscription is ended.")
    return back_to("applications.page", id=id)
