"""Whom a step in the life of a version touches: who is subscribed, and who called lately."""

from datetime import datetime
from typing import NamedTuple

from sqlmodel import col, func, select

from tamarack.console.life_cycle.comparing import LOOKS_BACK
from tamarack.core.configuration.model import Configuration
from tamarack.core.life_cycle.states import Step, steps
from tamarack.store.applications.tables import Subscription
from tamarack.store.traffic import overview as watching
from tamarack.web.application import db

MOST_CALLERS = 500


class Touched(NamedTuple):
    """A step, and whom it touches."""

    step: Step
    subscriptions: int
    """In force, to products that hold the API."""
    callers: list[tuple[str, str]]
    """The applications that called lately, as organization and application, the busiest first."""
    calls: int
    last: datetime | None
    """The last call, where there was one lately."""


def touched(where: str, live: Configuration, draft: Configuration) -> list[Touched]:
    """The steps that a rollout of the draft would take, each with whom it touches."""
    return [_touched(where, live, step) for step in steps(live, draft)]


def _touched(where: str, live: Configuration, step: Step) -> Touched:
    api, version = step.api.name, step.version.version
    products = [product.name for product in live.products_with(api)]
    held = select(func.count()).where(
        col(Subscription.product).in_(products), Subscription.environment == where, Subscription.state == "active"
    )
    span = watching.until_now(LOOKS_BACK, {"environment": where, "api": api, "version": version})
    busy = watching.busiest(db(), span, ("organization", "application"), most=MOST_CALLERS)
    wanted = watching.call_filter(first=span.first, environment=where, api=api, version=version)
    newest = watching.calls(db(), wanted, most=1)
    return Touched(
        step,
        db().exec(held).one(),
        [(one.name[0], one.name[1]) for one in busy],
        watching.totals(db(), span).calls,
        newest[0].at if newest else None,
    )
