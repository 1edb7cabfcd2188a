"""Quotas in use: what nodes counted, who is told at 80 and at 100 %, resets, and calls granted on top."""

from collections.abc import Iterable
from datetime import UTC, datetime

from sqlmodel import Session, col, select

from tamarack.core.configuration.model import Configuration
from tamarack.core.configuration.plans import Plan
from tamarack.core.limits.quota import OF_TOKENS, Quota, mark_of
from tamarack.core.limits.stretch import Stretch
from tamarack.core.limits.window import MOST
from tamarack.store.applications.tables import Application, Subscription
from tamarack.store.audit import log as auditing
from tamarack.store.audit.log import Actor
from tamarack.store.columns import now
from tamarack.store.errors import NotPossible
from tamarack.store.feed import items as feeding
from tamarack.store.mail import telling
from tamarack.store.people.tables import Organization
from tamarack.store.quotas.tables import QuotaUsed
from tamarack.store.rollouts import queries as rolling
from tamarack.store.traffic.tables import CallBatch

Row = tuple[str, str, str, int, int, int, int]
"""Environment, quota, key, the stretch's start and end (seconds since the epoch), its limit, calls counted."""


def take_in_use(session: Session, batch: str, node: str, rows: Iterable[Row]) -> bool:
    """Add a batch of use; False where it was taken in before. People are told of the marks that it passes."""
    if session.get(CallBatch, batch) is not None:
        return False
    session.add(CallBatch(id=batch, node=node, calls=0))
    for environment, quota, key, start, ends, limit, calls in sorted(rows):
        _add(session, environment, quota, key, start, ends, limit, calls)
    session.flush()
    return True


def _add(
    session: Session, environment: str, quota: str, key: str, start: int, ends: int, limit: int, calls: int
) -> None:
    begun = datetime.fromtimestamp(start, UTC)
    used = session.get(QuotaUsed, (environment, quota, key, begun), with_for_update=True)
    if used is None:
        until = datetime.fromtimestamp(ends, UTC)
        used = QuotaUsed(environment=environment, quota=quota, key=key, start=begun, ends=until, calls=0, allowed=limit)
    if limit > used.allowed:
        used.told = mark_of(used.calls, limit)
    used.allowed = limit
    used.calls += calls
    used.changed_at = now()
    mark = mark_of(used.calls, limit)
    if mark > used.told:
        used.told = mark
        _tell(session, used, mark)
    session.add(used)


def owner_of(session: Session, used: QuotaUsed) -> Application | None:
    """The application whose use it is, where it is one's."""
    subscription = session.get(Subscription, used.key.partition(".")[0])
    return session.get(Application, subscription.application_id if subscription is not None else used.key)


def _tell(session: Session, used: QuotaUsed, mark: int) -> None:
    subscription = session.get(Subscription, used.key.partition(".")[0])
    application = owner_of(session, used)
    tokens = used.quota.startswith(OF_TOKENS)
    what = used.quota.removeprefix(OF_TOKENS)
    if subscription is not None:
        what = f"{subscription.product}, plan {subscription.plan}"
    called, unit = ("budget of tokens", "tokens") if tokens else ("quota", "calls")
    whose = application.title if application is not None else used.key or "all callers together"
    done = "has used up" if mark >= 100 else f"has used {mark} % of"
    title = f"{whose} {done} its {called} in {used.environment}"
    text = (
        f"{whose} {done} its {called} of {what} in {used.environment}: {used.calls:,} of {used.allowed:,} {unit}"
        f" since {used.start:%d %B %Y %H:%M} UTC. The next period begins on {used.ends:%d %B %Y at %H:%M} UTC."
    )
    organization = session.get(Organization, application.organization_id) if application is not None else None
    if organization is not None:
        telling.tell_organization(session, organization, application, title, text)
    else:
        telling.tell_admins(session, title, text)


def stretch_of(subscription: Subscription, quota: Quota, at: datetime | None = None) -> Stretch:
    """The stretch of a subscription's quota that runs at a moment."""
    moment = (at or now()).timestamp()
    extra = (subscription.extra_start, subscription.extra_calls) if quota.unit == "calls" else (0, 0)
    return quota.stretch(moment, subscription.made_at.timestamp(), extra)


def key_of(subscription: Subscription) -> str:
    """What a subscription's quota counts for; the same as `core.carrying.call.Grant.quota_key`."""
    return f"{subscription.id}.{subscription.quota_round}" if subscription.quota_round else subscription.id


def use_of(session: Session, subscription: Subscription, plan: Plan | None) -> tuple[int, Stretch] | None:
    """The calls that a subscription has used in the running stretch of its quota; None where it has no quota."""
    return _use_of(session, subscription, plan.quota if plan is not None else None, "@quota/")


def tokens_of(session: Session, subscription: Subscription, plan: Plan | None) -> tuple[int, Stretch] | None:
    """The tokens that it has used in the running stretch of its budget; None where it has none."""
    return _use_of(session, subscription, plan.tokens if plan is not None else None, OF_TOKENS)


def _use_of(
    session: Session, subscription: Subscription, quota: Quota | None, before: str
) -> tuple[int, Stretch] | None:
    if quota is None:
        return None
    stretch = stretch_of(subscription, quota)
    place = (
        subscription.environment,
        f"{before}{subscription.product}",
        key_of(subscription),
        datetime.fromtimestamp(stretch.start, UTC),
    )
    used = session.get(QuotaUsed, place)
    return (used.calls if used is not None else 0), stretch


def plan_of(session: Session, subscription: Subscription) -> Plan | None:
    """The plan that a subscription is on, as it runs in its environment."""
    product = rolling.running_configuration(session, subscription.environment).product(subscription.product)
    return product.plan(subscription.plan) if product is not None else None


def _quota(running: Configuration, subscription: Subscription) -> Quota:
    product = running.product(subscription.product)
    plan = product.plan(subscription.plan) if product is not None else None
    if plan is None or plan.quota is None:
        raise NotPossible(f"The plan {subscription.plan} of {subscription.product} has no quota to change.")
    return plan.quota


def reset(session: Session, actor: Actor, subscription: Subscription, reason: str = "") -> None:
    """Begin the running stretch's count anew; nodes know within a second."""
    plan = plan_of(session, subscription)
    used = use_of(session, subscription, plan) or tokens_of(session, subscription, plan)
    if used is None:
        raise NotPossible(f"The plan {subscription.plan} of {subscription.product} has no quota to reset.")
    subscription.quota_round += 1
    session.add(subscription)
    session.flush()
    feeding.publish_subscription(session, subscription)
    auditing.record(session, actor, "reset quota", subscription.id, product=subscription.product, used=used[0],
                    reason=reason.strip()[:300])  # fmt: skip


def extend(session: Session, actor: Actor, subscription: Subscription, calls: int, reason: str = "") -> int:
    """Grant calls on top of the running stretch's quota, and no later one's; returns what is granted in all."""
    quota = _quota(rolling.running_configuration(session, subscription.environment), subscription)
    if not 1 <= calls <= MOST:
        raise NotPossible(f"{calls} calls cannot be granted; give a number from 1 to {MOST:,}.", "calls")
    start = stretch_of(subscription, quota).start
    before = subscription.extra_calls if subscription.extra_start == start else 0
    subscription.extra_start, subscription.extra_calls = start, before + calls
    session.add(subscription)
    session.flush()
    feeding.publish_subscription(session, subscription)
    auditing.record(session, actor, "extend quota", subscription.id, product=subscription.product, calls=calls,
                    reason=reason.strip()[:300])  # fmt: skip
    return subscription.extra_calls


def policy_use(session: Session, environment: str) -> list[QuotaUsed]:
    """What is used in the running stretches of an environment, the fullest first."""
    query = select(QuotaUsed).where(QuotaUsed.environment == environment, col(QuotaUsed.ends) > now())
    return sorted(session.exec(query), key=lambda one: one.calls / one.allowed, reverse=True)
