"""Applications, subscriptions and credentials: made and changed in one place, for portal and console alike."""

import re
import secrets
from dataclasses import dataclass
from datetime import datetime

from sqlmodel import Session, col, select

from tamarack.core import credentials as rules
from tamarack.core.configuration import Configuration
from tamarack.store import auditing, feeding
from tamarack.store.application import Application, Credential, Subscription
from tamarack.store.auditing import Actor
from tamarack.store.columns import now
from tamarack.store.organization import Organization

MOST_APPLICATIONS = 100
MOST_CREDENTIALS = 20


class NotPossible(Exception):
    """What was asked for cannot be done; `field` names the part of the form at fault."""

    def __init__(self, message: str, field: str = "") -> None:
        super().__init__(message)
        self.field = field


@dataclass(frozen=True, slots=True)
class MadeCredential:
    """A new credential and its value, which is not kept: this is the only time it can be shown."""

    credential: Credential
    value: str


def slug(title: str) -> str:
    """A name for addresses from a title."""
    name = re.sub(r"[^a-z0-9]+", "-", title.lower()).strip("-")[:60]
    return name if name[:1].isalpha() else f"a-{name}".rstrip("-")


def make_application(
    session: Session, actor: Actor, organization: Organization, title: str, description: str = ""
) -> Application:
    """Register an application. Its title is its own within the organization."""
    title = " ".join(title.split())
    if not 1 <= len(title) <= 80:
        raise NotPossible("Give the application a name of 1 to 80 characters.", "title")
    name = slug(title)
    own = select(Application).where(Application.organization_id == organization.id)
    existing = list(session.exec(own))
    if any(application.name == name for application in existing):
        message = f"{organization.title} already has an application called {title}; choose another name."
        raise NotPossible(message, "title")
    if len(existing) >= MOST_APPLICATIONS:
        raise NotPossible(f"{organization.title} has {len(existing)} applications, the most there can be.", "title")
    application = Application(
        organization_id=organization.id,
        name=name,
        title=title,
        description=description.strip()[:1000],
        made_by=actor.name,
    )
    session.add(application)
    session.flush()
    feeding.publish_application(session, application)
    auditing.record(session, actor, "make application", f"{organization.name}/{name}")
    return application


def subscribe(
    session: Session,
    actor: Actor,
    offered: Configuration,
    application: Application,
    product: str,
    plan: str,
    environment: str,
    message: str = "",
) -> Subscription:
    """Subscribe an application to a plan of a product that `offered`, the running configuration, holds.

    It is in force at once where the plan's approval is automatic, and pending where a person approves.
    """
    offer = offered.product(product)
    chosen = offer.plan(plan) if offer is not None else None
    if offer is None or chosen is None:
        raise NotPossible(f"The plan {plan!r} of {product!r} is not offered in {environment}.", "plan")
    same = select(Subscription).where(
        Subscription.application_id == application.id,
        Subscription.product == product,
        Subscription.environment == environment,
    )
    subscription = session.exec(same).first()
    if subscription is not None and subscription.state != "ended":
        raise NotPossible(
            f"{application.title} already has a subscription to {offer.title} in {environment}"
            f" ({subscription.state}); change its plan instead.",
            "application",
        )
    state = "active" if chosen.approval == "automatic" else "pending"
    if subscription is None:
        subscription = Subscription(
            application_id=application.id, product=product, plan=plan, environment=environment, made_by=actor.name
        )
    subscription.plan, subscription.state, subscription.message = plan, state, message.strip()[:1000]
    subscription.changed_at = now()
    session.add(subscription)
    session.flush()
    feeding.publish_subscription(session, subscription)
    subject = f"{application.name}: {product}/{plan}"
    auditing.record(session, actor, "subscribe", subject, environment=environment, state=state)
    return subscription


STATES: dict[str, tuple[str, ...]] = {
    "pending": ("active", "ended"),
    "active": ("paused", "ended"),
    "paused": ("active", "ended"),
    "ended": (),
}
"""Which states a subscription may go to from each."""


def set_subscription_state(session: Session, actor: Actor, subscription: Subscription, state: str) -> None:
    """Approve, pause, resume or end a subscription; nodes hear of it within a second."""
    if state not in STATES[subscription.state]:
        raise NotPossible(f"A subscription that is {subscription.state} cannot become {state}.")
    subscription.state = state
    subscription.changed_at = now()
    session.add(subscription)
    session.flush()
    feeding.publish_subscription(session, subscription)
    auditing.record(session, actor, f"subscription {state}", subscription.id, product=subscription.product)


def make_credential(
    session: Session,
    actor: Actor,
    pepper: bytes,
    application: Application,
    environment: str,
    label: str = "",
    expires_at: datetime | None = None,
) -> MadeCredential:
    """Make a key for an application in an environment. It works at once, without a rollout."""
    own = select(Credential).where(
        Credential.application_id == application.id,
        Credential.environment == environment,
        col(Credential.revoked_at).is_(None),
    )
    if len(list(session.exec(own))) >= MOST_CREDENTIALS:
        raise NotPossible(
            f"{application.title} has {MOST_CREDENTIALS} keys in {environment}; revoke one that is no longer used."
        )
    value = rules.make_key(secrets.token_bytes(4 * rules.LENGTH))
    credential = Credential(
        application_id=application.id,
        environment=environment,
        label=label.strip()[:80],
        digest=rules.digest(value.encode(), pepper),
        hint=rules.hint(value),
        expires_at=expires_at,
        made_by=actor.name,
    )
    session.add(credential)
    session.flush()
    feeding.publish_credential(session, credential)
    auditing.record(session, actor, "make credential", application.name, environment=environment, hint=credential.hint)
    return MadeCredential(credential, value)


def revoke_credential(session: Session, actor: Actor, credential: Credential) -> None:
    """Revoke a key for good; nodes refuse it within a second."""
    if credential.revoked_at is not None:
        return
    credential.revoked_at = now()
    session.add(credential)
    session.flush()
    feeding.publish_credential(session, credential)
    auditing.record(
        session, actor, "revoke credential", credential.application_id, hint=credential.hint, id=credential.id
    )


def set_application_active(session: Session, actor: Actor, application: Application, active: bool) -> None:
    """Pause or resume an application's calls."""
    application.active = active
    session.add(application)
    session.flush()
    feeding.publish_application(session, application)
    auditing.record(session, actor, "resume application" if active else "pause application", application.name)


def set_organization_active(session: Session, actor: Actor, organization: Organization, active: bool) -> None:
    """Pause or resume all of an organization's calls."""
    organization.active = active
    session.add(organization)
    session.flush()
    feeding.publish_organization(session, organization)
    auditing.record(session, actor, "resume organization" if active else "pause organization", organization.name)
