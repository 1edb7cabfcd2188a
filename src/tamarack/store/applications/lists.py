"""Lists of organizations, people, applications, subscriptions and requests: searched, filtered, a page at a time."""

from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy import ColumnElement
from sqlmodel import Session, and_, col, func, or_, select

from tamarack.store.applications.tables import Application, Subscription
from tamarack.store.people.tables import Organization, Person

Rows = tuple[Sequence[Any], int]
"""A page of rows, and how many there are in all."""


def waiting() -> ColumnElement[bool]:
    """The condition of subscriptions on which somebody has to decide."""
    asked = and_(col(Subscription.next_plan) != "", col(Subscription.next_at).is_(None), Subscription.state != "ended")
    return or_(Subscription.state == "pending", asked)


def _page(session: Session, query: Any, order: Sequence[Any], skip: int, most: int) -> Rows:
    total = session.connection().execute(select(func.count()).select_from(query.subquery())).scalar_one()
    rows = session.exec(query.order_by(*order).offset(skip).limit(most)).all()
    return rows, total


def _has(search: str, *columns: Any) -> ColumnElement[bool]:
    return or_(*(col(column).icontains(search, autoescape=True) for column in columns))


def organizations(session: Session, filters: Mapping[str, str], skip: int, most: int) -> Rows:
    """Organizations with the numbers of their people and applications. Filters: search, kind, state."""
    people = select(func.count()).where(Person.organization_id == Organization.id).scalar_subquery()
    applications = select(func.count()).where(Application.organization_id == Organization.id).scalar_subquery()
    query = select(Organization, people.label("people"), applications.label("applications"))
    search = filters.get("search", "")
    if search:
        inside = select(Application.organization_id).where(_has(search, Application.title))
        named = select(Person.organization_id).where(_has(search, Person.email, Person.name))
        found = or_(col(Organization.id).in_(inside), col(Organization.id).in_(named))
        query = query.where(or_(_has(search, Organization.title, Organization.name), found))
    if filters.get("kind"):
        query = query.where(Organization.kind == filters["kind"])
    if filters.get("state"):
        query = query.where(col(Organization.active).is_(filters["state"] == "active"))
    return _page(session, query, [Organization.title], skip, most)


def people(session: Session, filters: Mapping[str, str], skip: int, most: int) -> Rows:
    """People with their organizations. Filters: search, role, state."""
    query = select(Person, Organization).join(Organization, col(Organization.id) == Person.organization_id)
    if filters.get("search"):
        query = query.where(_has(filters["search"], Person.name, Person.email, Organization.title))
    if filters.get("role"):
        query = query.where(Person.role == filters["role"])
    if filters.get("state"):
        query = query.where(col(Person.active).is_(filters["state"] == "active"))
    return _page(session, query, [Person.name, Person.id], skip, most)


def applications(session: Session, filters: Mapping[str, str], skip: int, most: int) -> Rows:
    """Applications with their organizations and the number of subscriptions. Filters: search, organization, state."""
    many = select(func.count()).where(Subscription.application_id == Application.id, Subscription.state != "ended")
    query = select(Application, Organization, many.scalar_subquery().label("subscriptions")).join(
        Organization, col(Organization.id) == Application.organization_id
    )
    if filters.get("search"):
        columns = (Application.title, Application.name, Application.description, Organization.title)
        query = query.where(_has(filters["search"], *columns))
    if filters.get("organization"):
        query = query.where(Organization.name == filters["organization"])
    if filters.get("state"):
        running = and_(col(Application.active), col(Organization.active))
        query = query.where(running if filters["state"] == "active" else ~running)
    return _page(session, query, [Application.title, Application.id], skip, most)


def subscriptions(session: Session, filters: Mapping[str, str], skip: int, most: int) -> Rows:
    """Subscriptions with applications and organizations.

    Filters: search, product, plan, environment, and state, which may be `waiting`.
    """
    query = (
        select(Subscription, Application, Organization)
        .join(Application, col(Application.id) == Subscription.application_id)
        .join(Organization, col(Organization.id) == Application.organization_id)
    )
    if filters.get("search"):
        columns = (Application.title, Organization.title, Subscription.product, Subscription.message)
        query = query.where(_has(filters["search"], *columns))
    for name in ("product", "plan", "environment"):
        if filters.get(name):
            query = query.where(getattr(Subscription, name) == filters[name])
    state = filters.get("state", "")
    if state == "waiting":
        query = query.where(waiting())
    elif state:
        query = query.where(Subscription.state == state)
    # What waits is answered in the order it came; else what changed last stands first.
    order = [col(Subscription.made_at)] if state == "waiting" else [col(Subscription.changed_at).desc()]
    return _page(session, query, [*order, Subscription.id], skip, most)


def waiting_count(session: Session) -> int:
    """How many subscriptions wait for a decision."""
    return session.exec(select(func.count()).select_from(Subscription).where(waiting())).one()
