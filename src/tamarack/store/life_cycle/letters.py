"""Letters to those who still call a version: a notice in the portal, a mail, and what is remembered of it."""

from collections.abc import Sequence
from dataclasses import dataclass, field

from sqlmodel import Session, col, or_, select

from tamarack.core.configuration.model import Version
from tamarack.core.life_cycle.letter import Use, own_part
from tamarack.core.text import text_problem
from tamarack.store.applications.share_table import ApplicationShare
from tamarack.store.applications.tables import Application
from tamarack.store.audit import log as auditing
from tamarack.store.audit.log import Actor
from tamarack.store.errors import NotPossible
from tamarack.store.life_cycle.tables import Letter
from tamarack.store.lines import a_line
from tamarack.store.mail.tables import Mail
from tamarack.store.people.tables import Organization, Person
from tamarack.store.portal.notice_table import Notice
from tamarack.store.traffic.last_calls import Calling

MOST_TEXT = 10_000


@dataclass(slots=True)
class Addressee:
    """An organization whose applications still call: those, how they did, and who would get mail."""

    organization: Organization
    uses: list[tuple[Application, Calling]] = field(default_factory=list)
    people: Sequence[Person] = ()


def addressees(session: Session, callers: Sequence[Calling], chosen: Sequence[str] | None = None) -> list[Addressee]:
    """The organizations of those who call, with whom mail reaches: who looks after the applications, and leads.

    `chosen` are the ids of applications to write to; None for all. What is not registered any more is left out.
    """
    query = select(Application, Organization).join(Organization, col(Organization.id) == Application.organization_id)
    query = query.where(Application.active, Organization.active)
    query = query.where(col(Application.name).in_({one.application for one in callers}))
    known = {(o.name, a.name): (a, o) for a, o in session.exec(query)}
    found: dict[str, Addressee] = {}
    for one in callers:
        pair = known.get((one.organization, one.application))
        if pair is None or (chosen is not None and pair[0].id not in chosen):
            continue
        application, organization = pair
        found.setdefault(organization.id, Addressee(organization)).uses.append((application, one))
    for addressee in found.values():
        addressee.people = _people(session, addressee)
    return list(found.values())


def _people(session: Session, addressee: Addressee) -> Sequence[Person]:
    ids = [application.id for application, _ in addressee.uses]
    shared = select(ApplicationShare.person_id).where(col(ApplicationShare.application_id).in_(ids))
    query = select(Person).where(Person.organization_id == addressee.organization.id, Person.active)
    query = query.where(or_(col(Person.role) == "lead", col(Person.id).in_(shared)))
    return session.exec(query.order_by(Person.email)).all()


def text_for(addressee: Addressee, version: Version, text: str, days: int) -> str:
    """The letter as one organization reads it."""
    uses = [Use(application.title, calling.calls, calling.last) for application, calling in addressee.uses]
    return f"{text}\n\n{own_part(version, days, uses)}"


def checked(title: str, text: str) -> tuple[str, str]:
    """A letter's title and text, brought to one form. Raises `NotPossible` with the field at fault."""
    title, text = a_line(title, 140, "title", "The title"), text.strip().replace("\r\n", "\n")
    wrong = text_problem(text)
    if wrong:
        raise NotPossible(f"The text {wrong}.", "text")
    if not text or len(text) > MOST_TEXT:
        raise NotPossible(f"Write what there is to say, in at most {MOST_TEXT:,} characters.", "text")
    return title, text


def write(
    session: Session,
    actor: Actor,
    api: str,
    version: Version,
    title: str,
    text: str,
    to: Sequence[Addressee],
    days: int,
    portal: str,
) -> Letter:
    """Write to organizations: each has a notice for each application, and each person one mail."""
    title, text = checked(title, text)
    if not to:
        raise NotPossible("Choose at least one application to write about.", "to")
    made = Letter(api=api, version=version.version, title=title, text=text, made_by=actor.name)
    for addressee in to:
        whole = text_for(addressee, version, text, days)
        for application, _ in addressee.uses:
            made.applications = [*made.applications, application.id]
            session.add(
                Notice(organization_id=addressee.organization.id, application_id=application.id, title=title, text=text)
            )
        for person in addressee.people:
            session.add(Mail(to=person.email, subject=title, text=f"{person.name},\n\n{whole}\n\n{portal}/notices/\n"))
            made.mailed += 1
    session.add(made)
    auditing.record(
        session,
        actor,
        "write to callers",
        f"{api} {version.version}",
        title=title,
        applications=len(made.applications),
        mailed=made.mailed,
    )
    session.flush()
    return made


def written(session: Session, api: str, version: str, most: int = 20) -> Sequence[Letter]:
    """The letters about a version, the newest first."""
    query = select(Letter).where(Letter.api == api, Letter.version == version)
    return session.exec(query.order_by(col(Letter.id).desc()).limit(most)).all()
