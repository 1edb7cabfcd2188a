"""Applications and subscriptions: made and changed in one place, for portal and console alike."""

import re
from collections.abc import Iterable
from datetime import UTC, datetime

from sqlmodel import Session, col, select
from sqlmodel.sql.expression import SelectOfScalar

from tamarack.core.configuration.model import Configuration
from tamarack.core.configuration.plans import Plan, Product
from tamarack.core.limits.stretch import calendar_stretch
from tamarack.core.types import NAME_PATTERN
from tamarack.store.applications import sharing
from tamarack.store.applications.tables import Application, Subscription
from tamarack.store.audit import log as auditing
from tamarack.store.audit.log import WORKER, Actor
from tamarack.store.columns import now
from tamarack.store.errors import NotPossible
from tamarack.store.feed import items as feeding
from tamarack.store.lines import a_line
from tamarack.store.mail import telling
from tamarack.store.people.tables import Organization, Person
from tamarack.store.statements import queries as stating

MOST_APPLICATIONS = 100


def slug(title: str) -> str:
    """A name for addresses from a title."""
    name = re.sub(r"[^a-z0-9]+", "-", title.lower()).strip("-")[:60]
    return name if name[:1].isalpha() else f"a-{name}".rstrip("-")


def make_application(
    session: Session,
    actor: Actor,
    organization: Organization,
    title: str,
    description: str = "",
    maker: Person | None = None,
) -> Application:
    """Register an application. Its title is its own within the organization; it is shared with its `maker`."""
    title = _title(title)
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
    if maker is not None and maker.organization_id == organization.id:
        sharing.share_with(session, actor, application, maker)
    feeding.publish_application(session, application)
    auditing.record(session, actor, "make application", f"{organization.name}/{name}")
    return application


def _title(typed: str) -> str:
    return a_line(typed, 80, "title", "The application's name")


def describe_application(session: Session, actor: Actor, application: Application, title: str, description: str,
                         picture: str) -> None:  # fmt: skip
    """Give an application another title, description or picture (a kept one's name); its name in records stays."""
    title = _title(title)
    others = select(Application.title).where(
        Application.organization_id == application.organization_id, Application.id != application.id
    )
    if title.lower() in {other.lower() for other in session.exec(others)}:
        raise NotPossible(f"Another application is called {title}; choose another name.", "title")
    application.title, application.description, application.picture = title, description.strip()[:1000], picture
    session.add(application)
    session.flush()
    feeding.publish_application(session, application)
    auditing.record(session, actor, "describe application", application.name, title=title)


def _changed(session: Session, subscription: Subscription) -> None:
    """What follows from every change of a subscription's state or plan."""
    feeding.publish_subscription(session, subscription)
    stating.note_period(session, subscription)


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
    _changed(session, subscription)
    subject = f"{application.name}: {product}/{plan}"
    auditing.record(session, actor, "subscribe", subject, environment=environment, state=state)
    if state == "pending":
        _ask(session, application, offer, chosen, subscription)
    return subscription


def _ask(session: Session, application: Application, product: Product, plan: Plan, subscription: Subscription) -> None:
    said = f" Their message: ‘{subscription.message}’." if subscription.message else ""
    title = f"{application.title} asks for {product.title}, plan {plan.title}"
    where = f"in {subscription.environment}"
    telling.tell_admins(session, title, f"{title} {where}.{said} Decide in the console, under Subscribers, Requests.")


def plan_changes_at(plan: Plan, subscription: Subscription, at: datetime) -> datetime:
    """The end of the period that runs: of the plan's quota, else of the calendar month in UTC."""
    quota = plan.quota
    if quota is not None:
        end = quota.stretch(at.timestamp(), subscription.made_at.timestamp()).end
    else:
        end = calendar_stretch("month", "UTC", at.timestamp())[1]
    return datetime.fromtimestamp(end, UTC)


def change_plan(
    session: Session,
    actor: Actor,
    offered: Configuration,
    subscription: Subscription,
    plan: str,
    at_period_end: bool = False,
    approved: bool = True,
    message: str = "",
) -> None:
    """Move a subscription to another plan, now or when the running period ends. Its credentials stay.

    Where it is not `approved` and the plan wants a person's approval, it waits for that, with a message to them.
    """
    product = offered.product(subscription.product)
    wanted = product.plan(plan) if product is not None else None
    current = product.plan(subscription.plan) if product is not None else None
    if product is None or wanted is None:
        raise NotPossible(f"The plan {plan!r} of {subscription.product!r} is not offered here.", "plan")
    if subscription.state == "ended":
        raise NotPossible("The subscription is ended; subscribe again instead.")
    if plan == subscription.plan:
        raise NotPossible(f"The subscription is on the plan {wanted.title} already.", "plan")
    details = {"product": subscription.product, "was": subscription.plan, "plan": plan}
    if not approved and wanted.approval == "person":
        subscription.next_plan, subscription.next_at, subscription.message = plan, None, message.strip()[:1000]
        subscription.changed_at = now()
        session.add(subscription)
        auditing.record(session, actor, "ask for plan", subscription.id, **details)
        application = session.get(Application, subscription.application_id)
        if application is not None:
            _ask(session, application, product, wanted, subscription)
        return
    if at_period_end:
        subscription.next_plan = plan
        subscription.next_at = plan_changes_at(current or wanted, subscription, now())
        session.add(subscription)
        auditing.record(session, actor, "change plan later", subscription.id, **details,
                        at=subscription.next_at.isoformat())  # fmt: skip
        return
    _put_on(session, subscription, plan)
    auditing.record(session, actor, "change plan", subscription.id, **details)


def keep_plan(session: Session, actor: Actor, subscription: Subscription) -> None:
    """Drop a change of plan that has not happened yet, or was asked for."""
    if not subscription.next_plan:
        raise NotPossible("No change of plan is waiting.")
    dropped, subscription.next_plan, subscription.next_at = subscription.next_plan, "", None
    session.add(subscription)
    auditing.record(session, actor, "keep plan", subscription.id, product=subscription.product, dropped=dropped)


def _put_on(session: Session, subscription: Subscription, plan: str) -> None:
    subscription.plan, subscription.next_plan, subscription.next_at = plan, "", None
    subscription.changed_at = now()
    session.add(subscription)
    session.flush()
    _changed(session, subscription)


def changes_due() -> SelectOfScalar[Subscription]:
    """The subscriptions whose time has come to change their plan."""
    return select(Subscription).where(
        col(Subscription.next_at) <= now(), Subscription.next_plan != "", Subscription.state != "ended"
    )


def change_plans_due(session: Session) -> list[str]:
    """Change every plan whose time has come; returns what was done, in words."""
    done = []
    for subscription in session.exec(changes_due().with_for_update(skip_locked=True)).all():
        was = subscription.plan
        _put_on(session, subscription, subscription.next_plan)
        auditing.record(session, WORKER, "change plan", subscription.id, product=subscription.product, was=was,
                        plan=subscription.plan)  # fmt: skip
        done.append(f"subscription {subscription.id} changed from {was} to {subscription.plan}")
    return done


def approve(session: Session, actor: Actor, offered: Configuration, subscription: Subscription, plan: str = "") -> None:
    """Grant an access request, or a change of plan that was asked for; on another plan where one is chosen.

    Its organization is told what was granted.
    """
    wanted = plan or subscription.next_plan or subscription.plan
    product = offered.product(subscription.product)
    granted = product.plan(wanted) if product is not None else None
    if product is None or granted is None:
        raise NotPossible(
            f"The plan {wanted!r} of {subscription.product!r} is not offered here; choose another.", "plan"
        )
    asked = subscription.next_plan or subscription.plan
    if subscription.state == "pending":
        _put_on(session, subscription, wanted)
        set_subscription_state(session, actor, subscription, "active", _instead(product, asked, granted))
        return
    if not waits(subscription):
        raise NotPossible("This request is no longer open; someone else may have decided it.")
    _put_on(session, subscription, wanted)
    auditing.record(session, actor, "change plan", subscription.id, product=subscription.product, plan=wanted)
    _tell_state(session, subscription, f"on the plan {granted.title} now", _instead(product, asked, granted))


def _instead(product: Product, asked: str, granted: Plan) -> str:
    if asked == granted.name:
        return ""
    was = product.plan(asked)
    return f"it is on the plan {granted.title} instead of {was.title if was is not None else asked}."


def decline(session: Session, actor: Actor, subscription: Subscription, reason: str) -> None:
    """Turn down an access request, or a change of plan that was asked for; its organization reads the reason."""
    if subscription.state == "pending":
        set_subscription_state(session, actor, subscription, "ended", reason)
        return
    if not waits(subscription):
        raise NotPossible("This request is no longer open; someone else may have decided it.")
    reason = reason.strip()[:500]
    if not reason:
        raise NotPossible("Say why: the reason is what they read in the mail.", "reason")
    wanted = subscription.next_plan
    keep_plan(session, actor, subscription)
    _tell_state(session, subscription, f"not moved to {wanted}: it stays on {subscription.plan}", reason)


def waits(subscription: Subscription) -> bool:
    """Whether somebody has to decide on it: a new one, or a change of plan that was asked for."""
    asked = subscription.next_plan != "" and subscription.next_at is None and subscription.state != "ended"
    return subscription.state == "pending" or asked


STATES: dict[str, tuple[str, ...]] = {
    "pending": ("active", "ended"),
    "active": ("paused", "ended"),
    "paused": ("active", "ended"),
    "ended": (),
}
"""Which states a subscription may go to from each."""


def set_subscription_state(
    session: Session, actor: Actor, subscription: Subscription, state: str, reason: str = ""
) -> None:
    """Approve, decline, pause, resume or end a subscription; nodes hear of it within a second.

    Its organization is told; declining needs a reason, which they read.
    """
    before, reason = subscription.state, reason.strip()[:500]
    if state not in STATES[before]:
        raise NotPossible(f"A subscription that is {before} cannot become {state}.")
    declined = (before, state) == ("pending", "ended") and actor.door != "portal"
    if declined and not reason:
        raise NotPossible("Say why: the reason is what they read in the mail.", "reason")
    subscription.state = state
    if actor.door != "portal":
        _tell_state(session, subscription, "declined" if declined else _DONE[before, state], reason)
    subscription.changed_at = now()
    session.add(subscription)
    session.flush()
    _changed(session, subscription)
    auditing.record(session, actor, f"subscription {state}", subscription.id, product=subscription.product,
                    **({"reason": reason} if reason else {}))  # fmt: skip


_DONE = {
    ("pending", "active"): "approved",
    ("pending", "ended"): "ended",
    ("active", "paused"): "paused: its calls are refused",
    ("active", "ended"): "ended: its calls are refused",
    ("paused", "active"): "resumed",
    ("paused", "ended"): "ended",
}
"""What was done to a subscription, by its states before and after."""


def _tell_state(session: Session, subscription: Subscription, done: str, reason: str) -> None:
    application = session.get(Application, subscription.application_id)
    organization = session.get(Organization, application.organization_id) if application is not None else None
    if application is None or organization is None:
        return
    title = f"{application.title}: the subscription to {subscription.product} in {subscription.environment} is {done}"
    text = f"{title}." + (f" The reason: {reason}" if reason else "")
    telling.tell_organization(session, organization, application, title, text)


def _with_who_to_ask(title: str, active: bool) -> str:
    return f"{title}." if active else f"{title}. Ask the platform team why."


def set_application_active(session: Session, actor: Actor, application: Application, active: bool) -> None:
    """Pause or resume an application's calls."""
    application.active = active
    session.add(application)
    session.flush()
    feeding.publish_application(session, application)
    organization = session.get(Organization, application.organization_id)
    if organization is not None:
        title = f"{application.title} {'may call again' if active else 'is paused: its calls are refused'}"
        telling.tell_organization(session, organization, application, title, _with_who_to_ask(title, active))
    auditing.record(session, actor, "resume application" if active else "pause application", application.name)


def set_organization_active(session: Session, actor: Actor, organization: Organization, active: bool) -> None:
    """Pause or resume all of an organization's calls."""
    organization.active = active
    session.add(organization)
    session.flush()
    feeding.publish_organization(session, organization)
    title = f"{organization.title} {'may call again' if active else 'is paused: all of its calls are refused'}"
    telling.tell_organization(session, organization, None, title, _with_who_to_ask(title, active))
    auditing.record(session, actor, "resume organization" if active else "pause organization", organization.name)


MOST_GROUPS = 20


def read_groups(typed: Iterable[str]) -> list[str]:
    """The names of groups, in order and each once. Raises `NotPossible` naming one that cannot be one."""
    found = sorted({name.strip() for name in typed if name.strip()})
    wrong = next((name for name in found if not re.match(NAME_PATTERN, name)), None)
    if wrong is not None:
        message = f"{wrong!r} is not a group's name: lower-case letters, digits and hyphens, from a letter on."
        raise NotPossible(message, "groups")
    if len(found) > MOST_GROUPS:
        raise NotPossible(f"{len(found)} groups; at most {MOST_GROUPS}.", "groups")
    return found


def set_application_groups(session: Session, actor: Actor, application: Application, groups: Iterable[str]) -> None:
    """Say which groups an application carries; nodes know within a second."""
    application.groups = read_groups(groups)
    session.add(application)
    session.flush()
    feeding.publish_application(session, application)
    auditing.record(session, actor, "set groups", application.name, groups=application.groups)


def set_organization_groups(session: Session, actor: Actor, organization: Organization, groups: Iterable[str]) -> None:
    """Say which groups all of an organization's applications carry."""
    organization.groups = read_groups(groups)
    session.add(organization)
    session.flush()
    feeding.publish_organization(session, organization)
    auditing.record(session, actor, "set groups", organization.name, groups=organization.groups)


def set_may_look_again(session: Session, actor: Actor, organization: Organization, allowed: bool) -> None:
    """Allow, or no longer allow, an organization to look at its credentials' values again."""
    organization.may_look_again = allowed
    session.add(organization)
    session.flush()
    auditing.record(session, actor, "allow second look" if allowed else "forbid second look", organization.name)
