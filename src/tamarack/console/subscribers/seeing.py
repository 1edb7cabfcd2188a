"""What an organization sees in the portal, and why: no need to take anybody's place."""

from typing import Any

from flask import Blueprint, abort

from tamarack.console.page import render, requires, running
from tamarack.core.configuration.audience import in_words
from tamarack.core.configuration.seen import seen_by, why_seen
from tamarack.store.applications import queries as subscribers
from tamarack.store.rollouts import queries as rolling
from tamarack.web.application import db, environments

pages = Blueprint("seeing", __name__, url_prefix="/subscribers")


@pages.get("/<name>/sees")
@requires("see")
def page(name: str) -> Any:
    organization = subscribers.organization_named(db(), name)
    if organization is None:
        abort(404, f"There is no organization {name}.")
    viewer = subscribers.viewer_of(db(), organization)
    rollout, whole = running(environments().live)
    seen = seen_by(whole, viewer, rolling.closed_since(rollout) if rollout is not None else None)
    open_plans = {
        (product.name, plan.name)
        for product in seen_by(whole, viewer.without_holdings()).products
        for plan in product.plans
    }
    return render(
        "subscribers/sees.html",
        organization=organization,
        apis=[(api, seen.api(api.name), why_seen(api, whole, viewer), in_words(api.visible_to)) for api in whole.apis],
        products=[
            (product, seen.product(product.name), in_words(product.visible_to),
             [(plan, in_words(plan.visible_to), (product.name, plan.name) in open_plans,
               (product.name, plan.name) in viewer.holds) for plan in product.plans])
            for product in whole.products
        ],
        groups=sorted(viewer.groups),
    )  # fmt: skip
