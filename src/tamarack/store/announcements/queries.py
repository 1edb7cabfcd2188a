"""Announcements: written by the platform team, read in the portal, sent by mail to whom they concern."""

from collections.abc import Collection, Sequence

from sqlalchemy import ColumnElement
from sqlmodel import Session, and_, col, func, or_, select

from tamarack.core.configuration.model import Configuration
from tamarack.store.announcements.tables import Announcement
from tamarack.store.applications.share_table import ApplicationShare
from tamarack.store.applications.tables import Application, Subscription
from tamarack.store.audit import log as auditing
from tamarack.store.audit.log import Actor
from tamarack.store.errors import NotPossible
from tamarack.store.lines import a_line
from tamarack.store.mail.tables import Mail
from tamarack.store.people.tables import Organization, Person

READERS = ("everyone", "subscribers")
MOST_TEXT = 20_000


def announce(
    session: Session,
    actor: Actor,
    running: Configuration,
    api: str,
    version: str,
    title: str,
    text: str,
    readers: str,
    mail: bool,
    portal: str,
) -> Announcement:
    """Tell developers something: of an API (its change log), or in general (no API). `portal` is its address.

    By mail it reaches the people who look after applications subscribed to the API, and their leads; in general,
    everybody who uses the portal.
    """
    title, text = a_line(title, 140, "title", "The title"), text.strip()
    if not text or len(text) > MOST_TEXT:
        raise NotPossible(f"Write what there is to say, in at most {MOST_TEXT:,} characters.", "text")
    if readers not in READERS or (readers == "subscribers" and not api):
        raise NotPossible("Only the subscribers of an API can be chosen; choose the API too.", "readers")
    named = running.api(api)
    if api and named is None:
        raise NotPossible(f"No API {api!r} runs in the live environment.", "api")
    if version and (named is None or named.version(version) is None):
        raise NotPossible(f"{api} has no version {version!r} in the live environment.", "version")
    made = Announcement(api=api, version=version, title=title, text=text, readers=readers, made_by=actor.name)
    session.add(made)
    session.flush()
    if mail:
        people = concerned(session, running, api)
        about = f"{named.title}: {title}" if named is not None else title
        for person in people:
            session.add(Mail(to=person.email, subject=about, text=f"{person.name},\n\n{text}\n\n{portal}/notices/\n"))
        made.mailed = len(people)
        session.add(made)
    auditing.record(session, actor, "announce", api or "all", title=title, readers=readers, mailed=made.mailed)
    return made


def concerned(session: Session, running: Configuration, api: str) -> Sequence[Person]:
    """Whom it concerns: who looks after applications subscribed to an API, and their leads; without one, everybody."""
    people = select(Person).join(Organization, col(Organization.id) == Person.organization_id)
    people = people.where(Person.active, Organization.active)
    if api:
        products = [product.name for product in running.products_with(api)]
        subscribed = select(Application.id, Application.organization_id).join(
            Subscription, col(Subscription.application_id) == Application.id
        )
        subscribed = subscribed.where(col(Subscription.product).in_(products), Subscription.state != "ended")
        found = subscribed.subquery()
        shared = select(ApplicationShare.person_id).where(col(ApplicationShare.application_id).in_(select(found.c.id)))
        leads = and_(Person.role == "lead", col(Person.organization_id).in_(select(found.c.organization_id)))
        people = people.where(or_(leads, col(Person.id).in_(shared)))
    return session.exec(people.order_by(Person.email)).all()


def withdraw(session: Session, actor: Actor, announcement: Announcement) -> None:
    """Take an announcement back; mail that was sent stays sent."""
    auditing.record(session, actor, "withdraw announcement", announcement.api or "all", title=announcement.title)
    session.delete(announcement)


def _readable(seen: Collection[str], subscribed: Collection[str], signed_in: bool) -> ColumnElement[bool]:
    """What may be read by someone who sees some APIs and is subscribed to some."""
    parts = [
        and_(col(Announcement.api).in_(list(seen)), col(Announcement.readers) == "everyone"),
        col(Announcement.api).in_(list(subscribed)),
    ]
    if signed_in:
        parts.append(col(Announcement.api) == "")
    return or_(*parts)


def change_log(session: Session, api: str, subscribed: bool, most: int) -> Sequence[Announcement]:
    """An API's entries, the newest first; those for subscribers only where the reader is one."""
    query = select(Announcement).where(Announcement.api == api)
    if not subscribed:
        query = query.where(Announcement.readers == "everyone")
    return session.exec(query.order_by(col(Announcement.id).desc()).limit(most)).all()


def readable(
    session: Session, seen: Collection[str], subscribed: Collection[str], skip: int = 0, most: int = 20
) -> tuple[Sequence[Announcement], int]:
    """What someone who is signed in may read, the newest first, and how much there is in all."""
    allowed = _readable(seen, subscribed, signed_in=True)
    query = select(Announcement).where(allowed).order_by(col(Announcement.id).desc()).offset(skip).limit(most)
    total = session.exec(select(func.count()).select_from(Announcement).where(allowed)).one()
    return session.exec(query).all(), total


def everything(session: Session, skip: int = 0, most: int = 20) -> tuple[Sequence[Announcement], int]:
    """Every announcement, the newest first, and how many there are."""
    query = select(Announcement).order_by(col(Announcement.id).desc()).offset(skip).limit(most)
    return session.exec(query).all(), session.exec(select(func.count()).select_from(Announcement)).one()
