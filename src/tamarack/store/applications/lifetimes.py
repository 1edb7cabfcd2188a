"""How long a credential may last: the shortest that a plan of its application says, in its environment."""

from datetime import datetime, timedelta

from sqlmodel import Session, col, select

from tamarack.store.applications.tables import Application, Subscription
from tamarack.store.errors import NotPossible
from tamarack.store.rollouts import queries as rolling


def longest_life(session: Session, application: Application, environment: str) -> tuple[timedelta, str] | None:
    """The longest that a credential lasts and the plan that says so; None where none does."""
    configuration = rolling.running_configuration(session, environment)
    query = select(Subscription).where(
        Subscription.application_id == application.id,
        Subscription.environment == environment,
        col(Subscription.state).in_(("active", "paused")),
    )
    found = []
    for subscription in session.exec(query):
        product = configuration.product(subscription.product)
        plan = product.plan(subscription.plan) if product is not None else None
        if plan is not None and plan.credential_days:
            found.append((timedelta(days=plan.credential_days), plan.title))
    return min(found, default=None)


def end_of(
    session: Session, application: Application, environment: str, made_at: datetime, wanted: datetime | None
) -> datetime | None:
    """When a credential ends that is wanted to: at the latest when its plan says. Raises `NotPossible` beyond that."""
    longest = longest_life(session, application, environment)
    if longest is None:
        return wanted
    latest = made_at + longest[0]
    if wanted is None:
        return latest
    if wanted > latest + timedelta(days=1):  # a day is meant whole
        raise NotPossible(
            f"Under the plan {longest[1]} a credential lasts {longest[0].days} days:"
            f" until {latest:%Y-%m-%d} at the latest.",
            "expires_at",
        )
    return wanted
