"""The feed: what nodes need to know besides rollouts, as numbered changes: callers, secrets, keys, what to trace.

Only the newest state of each item is kept. Numbers are given out under a lock that is held until the
transaction ends, so that a node which has read up to a number has missed none below it.
"""

from typing import Any

from sqlalchemy import text
from sqlmodel import Session, col, select

from tamarack.store.applications.tables import Application, Credential, Subscription
from tamarack.store.feed.wake import notify
from tamarack.store.people.tables import Organization
from tamarack.store.rollouts.tables import FeedItem


def publish(session: Session, kind: str, key: str, body: dict[str, Any] | None) -> None:
    """Tell the nodes the newest state of one thing; no body: it is gone."""
    session.connection().execute(text("SELECT pg_advisory_xact_lock(hashtext('tamarack feed'))"))
    seq = session.connection().execute(text("SELECT coalesce(max(seq), 0) + 1 FROM feed_item")).scalar_one()
    item = session.get(FeedItem, (kind, key))
    if item is None:
        item = FeedItem(kind=kind, key=key, seq=seq, body=body)
    else:
        item.seq, item.body = seq, body
    session.add(item)
    session.flush()
    notify(session)


def publish_application(session: Session, application: Application) -> None:
    """Tell the nodes how an application and its organization stand."""
    organization = session.get(Organization, application.organization_id)
    assert organization is not None
    body = {
        "name": application.name,
        "organization": organization.name,
        "paused": not (application.active and organization.active),
        "groups": sorted({*application.groups, *organization.groups}),
    }
    publish(session, "application", application.id, body)


def publish_organization(session: Session, organization: Organization) -> None:
    """Tell the nodes how all of an organization's applications stand."""
    query = select(Application).where(col(Application.organization_id) == organization.id)
    for application in session.exec(query):
        publish_application(session, application)


def publish_credential(session: Session, credential: Credential) -> None:
    """Tell the nodes of a new, changed or revoked credential: its keyed hash, never itself."""
    body = {
        "application": credential.application_id,
        "environment": credential.environment,
        "digest": credential.digest,
        "expires_at": credential.expires_at.timestamp() if credential.expires_at is not None else None,
        "revoked": credential.revoked_at is not None,
        "addresses": credential.addresses,
        "sites": credential.sites,
    }
    publish(session, "credential", credential.id, body)


def publish_subscription(session: Session, subscription: Subscription) -> None:
    """Tell the nodes of a subscription's plan and state."""
    body = {
        "application": subscription.application_id,
        "environment": subscription.environment,
        "product": subscription.product,
        "plan": subscription.plan,
        "state": subscription.state,
        "since": subscription.made_at.timestamp(),
        "quota_round": subscription.quota_round,
        "extra_start": subscription.extra_start,
        "extra_calls": subscription.extra_calls,
    }
    publish(session, "subscription", subscription.id, body)
