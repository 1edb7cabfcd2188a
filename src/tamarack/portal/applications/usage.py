"""An application's usage: calls and errors over time, against each limit, by API, and the last refusals."""

from datetime import UTC, datetime, timedelta
from typing import Any

from flask import Blueprint, request

from tamarack.core.carrying.refusals import REASONS
from tamarack.core.configuration.plans import Plan
from tamarack.core.traffic.span import step_for
from tamarack.core.traffic.totals import together
from tamarack.portal.page import environments_for, my_application, my_organization, offered, render, requires
from tamarack.store.applications import queries as subscribers
from tamarack.store.applications.tables import Application, Subscription
from tamarack.store.quotas import queries as quotas
from tamarack.store.traffic import overview as watching
from tamarack.web.application import db, environments
from tamarack.web.pictures.traffic import calls_chart

pages = Blueprint("usage", __name__, url_prefix="/applications/<id>/usage")

SPANS = {"hour": timedelta(hours=1), "day": timedelta(days=1), "week": timedelta(days=7), "month": timedelta(days=30)}


def use_of_limits(
    application: Application, subscription: Subscription, plan: Plan | None
) -> list[tuple[str, int, int]]:
    """What was used of each limit of a plan."""
    if plan is None:
        return []
    used = []
    quota = quotas.use_of(db(), subscription, plan)
    if quota is not None:
        used.append((plan.quota.brief if plan.quota is not None else "", quota[0], quota[1].limit))
    tokens = quotas.tokens_of(db(), subscription, plan)
    if tokens is not None and plan.tokens is not None:
        used.append((plan.tokens.brief, tokens[0], tokens[1].limit))
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


@pages.get("/")
@requires("see")
def page(id: str) -> Any:
    application, owner = my_application(id), my_organization()
    chosen = request.args.get("span", "day")
    chosen = chosen if chosen in SPANS else "day"
    asked = request.args.get("environment", "")
    there = environments_for(application)
    environment = asked if asked in there else environments().live
    filters = {"environment": environment, "organization": owner.name, "application": application.name}
    titles = {api.name: api.title for api in offered(environment).apis}
    api = request.args.get("api", "")
    if api in titles:
        filters["api"] = api
    span = watching.until_now(SPANS[chosen], filters)
    step = step_for(SPANS[chosen])
    times, points = watching.series(db(), span, step)
    chart = calls_chart(times, points, step, width=1000, height=210)
    whole = watching.Span(span.first, span.last, {k: v for k, v in filters.items() if k != "api"})
    subscriptions = [
        one for one in subscribers.subscriptions_of(db(), application)
        if one.environment == environment and one.state != "ended"
    ]  # fmt: skip
    refused = watching.calls(
        db(),
        watching.call_filter(environment=environment, organization=owner.name, application=application.name,
                             api=filters.get("api", ""), outcome="refused"),
        most=12,
    )  # fmt: skip
    return render(
        "applications/usage.html",
        application=application,
        tab="usage",
        spans=tuple(SPANS),
        span=chosen,
        environment=environment,
        environments=there,
        api=filters.get("api", ""),
        chart=chart,
        totals=together(points),
        by_api=watching.busiest(db(), whole, ("api", "version"), most=40),
        refusals=watching.refusals(db(), span, most=6),
        refused=refused,
        reasons=REASONS,
        titles=titles,
        limits=[(one, *_plan_of(one), use_of_limits(application, one, _plan_of(one)[1])) for one in subscriptions],
    )


def _plan_of(subscription: Subscription) -> tuple[str, Plan | None]:
    """The title of a subscription's product, and its plan."""
    product = offered(subscription.environment).product(subscription.product)
    plan = product.plan(subscription.plan) if product is not None else None
    return (product.title if product is not None else subscription.product), plan
