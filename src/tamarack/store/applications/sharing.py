"""With whom applications are shared: leads see all of their organization's, members those that are shared with them."""

from collections.abc import Iterable, Sequence

from sqlalchemy import ColumnElement
from sqlmodel import Session, col, delete, func, select

from tamarack.store.applications.share_table import ApplicationShare
from tamarack.store.applications.tables import Application
from tamarack.store.audit import log as auditing
from tamarack.store.audit.log import Actor
from tamarack.store.errors import NotPossible
from tamarack.store.people.tables import Person


def seen_by(person: Person) -> ColumnElement[bool]:
    """The condition on applications that a person looks after."""
    own = col(Application.organization_id) == person.organization_id
    if person.role == "lead":
        return own
    shared = select(ApplicationShare.application_id).where(ApplicationShare.person_id == person.id)
    return own & col(Application.id).in_(shared)


def looks_after(session: Session, person: Person, application: Application) -> bool:
    """Whether a person sees and looks after an application."""
    query = select(Application.id).where(Application.id == application.id, seen_by(person))
    return session.exec(query).first() is not None


def applications_seen(
    session: Session, person: Person, search: str = "", skip: int = 0, most: int = 200
) -> Sequence[Application]:
    """The applications that a person looks after, by title; those that match where something is searched for."""
    query = select(Application).where(seen_by(person), _matches(search))
    return session.exec(query.order_by(Application.title, Application.id).offset(skip).limit(most)).all()


def count_seen(session: Session, person: Person, search: str = "") -> int:
    """How many there are of them."""
    return session.exec(select(func.count()).select_from(Application).where(seen_by(person), _matches(search))).one()


def _matches(search: str) -> ColumnElement[bool]:
    title = col(Application.title).icontains(search, autoescape=True)
    return title | col(Application.description).icontains(search, autoescape=True)


def shared_with(session: Session, application: Application) -> Sequence[Person]:
    """The people whom an application is shared with, by name."""
    query = select(Person).join(ApplicationShare, col(ApplicationShare.person_id) == Person.id)
    return session.exec(query.where(ApplicationShare.application_id == application.id).order_by(Person.name)).all()


def share(session: Session, actor: Actor, application: Application, people: Iterable[str]) -> None:
    """Share an application with these people (ids) of its organization, and with nobody else."""
    wanted = set(people)
    query = select(Person).where(Person.organization_id == application.organization_id, col(Person.id).in_(wanted))
    found = session.exec(query).all()
    if len(found) != len(wanted):
        raise NotPossible("An application is shared with people of its own organization only; choose them again.")
    session.exec(delete(ApplicationShare).where(col(ApplicationShare.application_id) == application.id))
    for person in found:
        share_with(session, actor, application, person)
    names = sorted(person.email for person in found)
    auditing.record(session, actor, "share application", application.name, people=names)


def share_with(session: Session, actor: Actor, application: Application, person: Person) -> None:
    """Share an application with one more person, like the one who made it."""
    session.merge(ApplicationShare(application_id=application.id, person_id=person.id, made_by=actor.name))
    session.flush()
