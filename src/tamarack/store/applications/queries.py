"""Reading organizations, people, applications and what belongs to them, for both web applications."""

from collections.abc import Sequence
from datetime import datetime

from sqlmodel import Session, col, func, select

from tamarack.core.configuration.audience import Viewer
from tamarack.store.applications.sharing import seen_by
from tamarack.store.applications.tables import Application, Credential, Subscription
from tamarack.store.people.tables import Organization, Person


def organizations(session: Session, search: str = "") -> list[tuple[Organization, int, int]]:
    """Organizations whose name, people or applications match, with the number of both."""
    people = select(func.count()).where(Person.organization_id == Organization.id).scalar_subquery()
    applications = select(func.count()).where(Application.organization_id == Organization.id).scalar_subquery()
    query = select(Organization, people, applications).order_by(Organization.title)
    if search:
        inside = select(Application.organization_id).where(col(Application.title).icontains(search, autoescape=True))
        named = select(Person.organization_id).where(
            col(Person.email).icontains(search, autoescape=True) | col(Person.name).icontains(search, autoescape=True)
        )
        query = query.where(
            col(Organization.title).icontains(search, autoescape=True)
            | col(Organization.id).in_(inside)
            | col(Organization.id).in_(named)
        )
    return [(row[0], row[1], row[2]) for row in session.exec(query)]


def organization_named(session: Session, name: str) -> Organization | None:
    """The organization so named, or None."""
    return session.exec(select(Organization).where(Organization.name == name)).first()


def viewer_of(session: Session, organization: Organization) -> Viewer:
    """An organization as the rules of who sees what know it."""
    query = select(Subscription.product, Subscription.plan, Subscription.made_at).where(
        Subscription.application_id == Application.id,
        Application.organization_id == organization.id,
        Subscription.state != "ended",
    )
    groups = set(organization.groups)
    for one in session.exec(select(Application.groups).where(Application.organization_id == organization.id)):
        groups |= set(one)
    holds = set()
    since: dict[str, datetime] = {}
    for product, plan, made_at in session.exec(query):
        holds.add((product, plan))
        since[product] = min(made_at, since.get(product, made_at))
    return Viewer(organization.name, organization.kind, frozenset(groups), frozenset(holds), frozenset(since.items()))


def groups_carried(session: Session) -> set[str]:
    """The groups that some application, or its organization, carries."""
    lists = [*session.exec(select(Organization.groups)), *session.exec(select(Application.groups))]
    return {name for one in lists for name in one}


def subscribed_to(session: Session, person: Person, products: Sequence[str]) -> list[tuple[Application, Subscription]]:
    """A person's applications with a subscription to any of some products that has not ended."""
    query = (
        select(Application, Subscription)
        .where(Subscription.application_id == Application.id, seen_by(person))
        .where(col(Subscription.product).in_(products), Subscription.state != "ended")
        .order_by(Application.title, col(Subscription.environment))
    )
    return [(row[0], row[1]) for row in session.exec(query)]


def people_of(session: Session, organization: Organization) -> Sequence[Person]:
    """The people of an organization, leads first."""
    query = select(Person).where(Person.organization_id == organization.id)
    return session.exec(query.order_by(Person.role, Person.name)).all()


def applications_of(session: Session, organization: Organization) -> Sequence[Application]:
    """An organization's applications."""
    query = select(Application).where(Application.organization_id == organization.id)
    return session.exec(query.order_by(Application.title)).all()


def subscriptions_of(session: Session, application: Application) -> Sequence[Subscription]:
    """An application's subscriptions, also ended ones."""
    query = select(Subscription).where(Subscription.application_id == application.id)
    return session.exec(query.order_by(Subscription.environment, Subscription.product)).all()


def credentials_of(session: Session, application: Application) -> Sequence[Credential]:
    """An application's credentials, the newest first, also revoked ones."""
    query = select(Credential).where(Credential.application_id == application.id)
    return session.exec(query.order_by(col(Credential.made_at).desc())).all()


def applications_matching(session: Session, search: str, most: int = 8) -> list[tuple[Application, Organization]]:
    """Applications of any organization whose title matches."""
    query = (
        select(Application, Organization)
        .where(Application.organization_id == Organization.id)
        .where(col(Application.title).icontains(search, autoescape=True))
        .order_by(Application.title)
        .limit(most)
    )
    return [(row[0], row[1]) for row in session.exec(query)]


def application_id(session: Session, organization: str, name: str) -> str:
    """The id of an application by its organization's name and its own; empty where there is none."""
    query = select(Application.id).where(Application.organization_id == Organization.id)
    found = session.exec(query.where(Organization.name == organization, Application.name == name)).first()
    return found or ""


def all_applications(session: Session) -> list[tuple[Application, Organization]]:
    """Every application with its organization."""
    query = select(Application, Organization).where(Application.organization_id == Organization.id)
    return [(row[0], row[1]) for row in session.exec(query)]


def caller_names(session: Session) -> dict[str, str]:
    """What counters count for, in words: the ids of applications, credentials and subscriptions, each with a name."""
    names: dict[str, str] = {}
    titles = {one.id: f"{one.title} of {owner.title}" for one, owner in all_applications(session)}
    names |= titles
    for id, owner, hint in session.exec(select(Credential.id, Credential.application_id, Credential.hint)):
        names[id] = f"{titles.get(owner, owner)}, key {hint}"
    for id, owner, product in session.exec(select(Subscription.id, Subscription.application_id, Subscription.product)):
        names[id] = f"{titles.get(owner, owner)}, {product}"
    return names
