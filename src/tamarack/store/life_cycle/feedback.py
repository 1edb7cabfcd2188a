"""Feedback on previews: said by developers, answered by staff; and who is told when a preview is published."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import timedelta

from sqlalchemy import text as sql
from sqlmodel import Session, col, func, select

from tamarack.core.configuration.model import Api, Configuration, Version
from tamarack.core.text import text_problem
from tamarack.store.audit import log as auditing
from tamarack.store.audit.log import Actor
from tamarack.store.columns import now
from tamarack.store.errors import NotPossible
from tamarack.store.life_cycle.tables import Feedback, PreviewReader
from tamarack.store.mail.tables import Mail
from tamarack.store.people.tables import Organization, Person

MOST_TEXT = 4_000
MOST_A_DAY = 50
"""Of one person."""
THUMBS = ("", "up", "down")


def _words(typed: str, what: str) -> str:
    text = typed.strip().replace("\r\n", "\n")
    wrong = text_problem(text)
    if wrong:
        raise NotPossible(f"{what} {wrong}.", "text")
    if len(text) > MOST_TEXT:
        raise NotPossible(f"{what} has {len(text):,} characters; at most {MOST_TEXT:,} fit.", "text")
    return text


def say(
    session: Session, actor: Actor, person: Person, api: Api, version: Version, call: str, thumb: str, typed: str
) -> Feedback:
    """What a person says of a preview, or of an operation of it."""
    if version.state != "preview":
        raise NotPossible(f"{api.title} {version.version} is {version.state}; feedback is for previews.", "text")
    if call and version.operation(call) is None:
        raise NotPossible(f"{api.title} {version.version} has no operation {call[:80]!r}.", "call")
    if thumb not in THUMBS:
        raise NotPossible(f"{thumb[:20]!r} is no thumb; choose up or down.", "thumb")
    text = _words(typed, "The note")
    if not thumb and not text:
        raise NotPossible("Choose a thumb, or write what you think.", "text")
    lately = select(func.count()).where(Feedback.person_id == person.id, Feedback.made_at > now() - timedelta(days=1))
    if session.exec(lately).one() >= MOST_A_DAY:
        raise NotPossible(f"You have said {MOST_A_DAY} things in a day; write more tomorrow.", "text")
    made = Feedback(
        api=api.name,
        version=version.version,
        call=call,
        organization_id=person.organization_id,
        person_id=person.id,
        thumb=thumb,
        text=text,
    )
    session.add(made)
    auditing.record(session, actor, "give feedback", f"{api.name} {version.version}", call=call, thumb=thumb)
    return made


def take_back(session: Session, actor: Actor, said: Feedback) -> None:
    """Whoever said it takes it back."""
    auditing.record(session, actor, "take feedback back", f"{said.api} {said.version}", call=said.call)
    session.delete(said)


def answer(session: Session, actor: Actor, said: Feedback, typed: str, called: str, address: str) -> None:
    """What the owner answers; whoever said it gets it by mail. `called` is the version, `address` where it is read."""
    text = _words(typed, "The answer")
    if not text:
        raise NotPossible("Write an answer.", "text")
    said.answer, said.answered_by, said.answered_at = text, actor.name, now()
    session.add(said)
    auditing.record(session, actor, "answer feedback", f"{said.api} {said.version}", call=said.call)
    person = session.get(Person, said.person_id) if said.person_id else None
    if person is not None and person.active:
        about = f" on {said.call}" if said.call else ""
        quoted = "".join(f"> {line}\n" for line in said.text.splitlines())
        body = f"{person.name},\n\nyour feedback{about} has an answer:\n\n{quoted}\n{text}\n\n{address}\n"
        session.add(Mail(to=person.email, subject=f"Your feedback on {called}", text=body))


@dataclass(frozen=True, slots=True)
class Said:
    """A piece of feedback with who said it."""

    feedback: Feedback
    organization: str
    person: str


def of_version(session: Session, api: str, version: str, call: str | None = None, most: int = 200) -> list[Said]:
    """What was said of a version (of one operation), the newest first."""
    query = (
        select(Feedback, Organization.title, Person.name)
        .join(Organization, col(Organization.id) == Feedback.organization_id)
        .join(Person, col(Person.id) == Feedback.person_id, isouter=True)
        .where(Feedback.api == api, Feedback.version == version)
        .order_by(col(Feedback.id).desc())
        .limit(most)
    )
    if call is not None:
        query = query.where(Feedback.call == call)
    return [Said(row[0], row[1], row[2] or "someone who left") for row in session.exec(query)]


def of_organization(
    session: Session, organization_id: str, api: str, version: str, call: str = "", most: int = 50
) -> Sequence[Feedback]:
    """What an organization said of a version or of one operation of it, the newest first."""
    query = select(Feedback).where(
        Feedback.organization_id == organization_id,
        Feedback.api == api,
        Feedback.version == version,
        Feedback.call == call,
    )
    return session.exec(query.order_by(col(Feedback.id).desc()).limit(most)).all()


@dataclass(frozen=True, slots=True)
class Tally:
    """How a version, or an operation of it, was found."""

    up: int = 0
    down: int = 0
    notes: int = 0
    unanswered: int = 0


def tallies(session: Session, api: str, version: str) -> dict[str, Tally]:
    """What was said, counted by operation (empty for the version as a whole)."""
    query = """
        SELECT call, count(*) FILTER (WHERE thumb = 'up'), count(*) FILTER (WHERE thumb = 'down'),
               count(*) FILTER (WHERE text <> ''), count(*) FILTER (WHERE text <> '' AND answer = '')
        FROM feedback WHERE api = :api AND version = :version GROUP BY call ORDER BY call"""
    rows = session.connection().execute(sql(query), {"api": api, "version": version})
    return {call: Tally(*counts) for call, *counts in rows}


def wants_to_know(session: Session, person: Person, api: str, version: str) -> bool:
    """Whether someone is told when a preview is published."""
    return session.get(PreviewReader, (api, version, person.id)) is not None


def tell_when_published(session: Session, person: Person, api: str, version: str, wanted: bool) -> None:
    """Tell someone when a preview is published, or no more."""
    found = session.get(PreviewReader, (api, version, person.id))
    if wanted and found is None:
        session.add(PreviewReader(api=api, version=version, person_id=person.id))
    if not wanted and found is not None:
        session.delete(found)


def tell_of_published(session: Session, running: Configuration, portal: str) -> int:
    """Tell by mail who waited for previews that are published in what runs; returns how many mails."""
    told = 0
    query = (
        select(PreviewReader, Person)
        .join(Person, col(Person.id) == PreviewReader.person_id)
        .with_for_update(of=PreviewReader, skip_locked=True)
    )
    for reader, person in session.exec(query).all():
        api = running.api(reader.api)
        version = api.version(reader.version) if api is not None else None
        if api is None or version is None or version.state != "published":
            continue
        session.delete(reader)
        if person.active:
            session.add(_published(person, api, version, portal))
            told += 1
    return told


def _published(person: Person, api: Api, version: Version, portal: str) -> Mail:
    called = f"{api.title} {version.version}"
    page = f"{portal}/apis/{api.name}/{version.version}/"
    text = f"{person.name},\n\n{called}, which you looked at as a preview, is published: {page}\n\n"
    text += "To go on calling it, subscribe one of your applications; a subscription that you have covers it.\n"
    return Mail(to=person.email, subject=f"{called} is published", text=text)
