"""Telling people: a notice in the portal, and a mail to those who look after it."""

from datetime import timedelta

from sqlmodel import Session, col, select
from sqlmodel.sql.expression import SelectOfScalar

from tamarack.store.applications.share_table import ApplicationShare
from tamarack.store.applications.sharing import seen_by
from tamarack.store.applications.tables import Application
from tamarack.store.columns import now
from tamarack.store.mail.tables import Mail
from tamarack.store.people.staff import Staff
from tamarack.store.people.tables import Organization, Person
from tamarack.store.portal.notice_table import Notice

MOST_TRIES = 12


def tell_organization(session: Session, organization: Organization, application: Application | None, title: str,
                      text: str) -> None:  # fmt: skip
    """A notice to an organization, and a mail to its leads; of an application, to those who look after it too."""
    session.add(
        Notice(
            organization_id=organization.id,
            application_id=application.id if application is not None else None,
            title=title,
            text=text,
        )
    )
    concerned = col(Person.role) == "lead"
    if application is not None:
        shared = select(ApplicationShare.person_id).where(ApplicationShare.application_id == application.id)
        concerned = concerned | col(Person.id).in_(shared)
    query = select(Person).where(Person.organization_id == organization.id, Person.active, concerned)
    for person in session.exec(query):
        session.add(Mail(to=person.email, subject=title, text=f"{person.name},\n\n{text}\n"))


def tell_admins(session: Session, title: str, text: str) -> None:
    """A mail to the platform's admins."""
    for member in session.exec(select(Staff).where(Staff.role == "platform-admin", Staff.active)):
        session.add(Mail(to=member.email, subject=title, text=f"{member.name},\n\n{text}\n"))


def notices(session: Session, person: Person, most: int = 20, application: Application | None = None) -> list[Notice]:
    """The newest notices of a person's organization: of it as a whole, and of the applications that they look after.

    With an application, those of it alone.
    """
    query = select(Notice).where(Notice.organization_id == person.organization_id)
    theirs = select(Application.id).where(seen_by(person))
    if application is not None:
        query = query.where(Notice.application_id == application.id)
    query = query.where(col(Notice.application_id).is_(None) | col(Notice.application_id).in_(theirs))
    return list(session.exec(query.order_by(col(Notice.made_at).desc(), col(Notice.id).desc()).limit(most)))


def due_mail() -> SelectOfScalar[Mail]:
    """The mail whose time to be handed over has come."""
    return select(Mail).where(col(Mail.sent_at).is_(None), col(Mail.next_try_at) <= now(), Mail.tries < MOST_TRIES)


def waiting_mail(session: Session, most: int = 50) -> list[Mail]:
    """Mail whose time to be handed over has come, the oldest first; locked against a second worker."""
    oldest = due_mail().order_by(col(Mail.id)).limit(most)
    return list(session.exec(oldest.with_for_update(skip_locked=True)))


def waiting_one(session: Session, id: int | None) -> Mail | None:
    """A mail that still waits, locked; None where another worker has it."""
    query = select(Mail).where(Mail.id == id, col(Mail.sent_at).is_(None)).with_for_update(skip_locked=True)
    return session.exec(query).first()


def note_sent(session: Session, mail: Mail) -> None:
    """A mail server has taken it."""
    mail.sent_at, mail.problem = now(), ""
    if mail.secret:
        mail.text = ""
    session.add(mail)


def note_not_sent(session: Session, mail: Mail, problem: str) -> None:
    """It was not taken: it waits, each time twice as long."""
    mail.tries += 1
    mail.problem = problem[:500]
    mail.next_try_at = now() + timedelta(seconds=min(3600, 2**mail.tries))
    session.add(mail)
