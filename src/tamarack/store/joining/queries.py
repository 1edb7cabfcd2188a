"""Joining an organization: sign-up with confirmation and approval, invitations, and passwords that were forgotten.

What a stranger is told never depends on whether an account or an organization exists; the mail says more.
"""

from datetime import datetime, timedelta

from sqlmodel import Session, col, func, select
from sqlmodel.sql.expression import SelectOfScalar

from tamarack.core.configuration.audience import RESERVED
from tamarack.core.identity.passwords import password_problem
from tamarack.store.applications.changes import slug
from tamarack.store.audit import log as auditing
from tamarack.store.audit.log import Actor
from tamarack.store.columns import now
from tamarack.store.errors import NotPossible
from tamarack.store.joining.links import find_link, new_link, send, use_link
from tamarack.store.joining.tables import JoinAsk, JoinRequest, MailLink
from tamarack.store.lines import a_line
from tamarack.store.mail import telling
from tamarack.store.mail.tables import Mail
from tamarack.store.people.passwords import hash_password
from tamarack.store.people.tables import Organization, Person
from tamarack.store.sign_in import by_mail

MOST_ASKED = 10
"""Sign-ups and forgotten passwords from one address for one account, within a quarter of an hour."""
MOST_OPEN = 3
"""Sign-ups of one e-mail address that wait to be confirmed: whoever opens the mail chooses."""
MOST_MAILS = 5
"""Mails that strangers can have sent to one e-mail address within an hour."""


def _person(session: Session, email: str) -> Person | None:
    return session.exec(select(Person).where(Person.email == email)).first()


def ask(session: Session, purpose: str, email: str, said: dict[str, str] | None = None) -> None:
    """Note what a stranger asks for (`sign-up` or `reset`). The worker answers, so that time tells nothing here."""
    session.add(JoinAsk(purpose=purpose, email=email, said=said or {}))
    session.flush()


def asks() -> SelectOfScalar[JoinAsk]:
    """What strangers asked for and nobody answered yet."""
    return select(JoinAsk)


def next_ask(session: Session) -> JoinAsk | None:
    """What a stranger asked for first and nobody answered yet, locked."""
    return session.exec(asks().order_by(col(JoinAsk.id)).limit(1).with_for_update(skip_locked=True)).first()


def answer(session: Session, asked: JoinAsk, portal: str, service: str) -> None:
    """Answer what a stranger asked for, by mail; `portal` and `service` are addresses of the portal and of the sign-in
    service. It is asked for no more."""
    session.delete(asked)
    lately = select(func.count()).where(
        Mail.to == asked.email, Mail.secret, col(Mail.made_at) > now() - timedelta(hours=1)
    )
    if session.exec(lately).one() >= MOST_MAILS:
        return
    if asked.purpose == "reset":
        forgot(session, asked.email, portal)
    elif asked.purpose.startswith("user-"):
        by_mail.answer(session, asked, service)
    else:
        said = asked.said
        sign_up(
            session, asked.email, said.get("name", ""), said.get("organization", ""), said.get("message", ""), portal
        )


def sign_up(session: Session, email: str, name: str, organization: str, message: str, portal: str) -> None:
    """Someone signs up. They get a mail: with a link to confirm, or, with an account already, saying so.

    The password is chosen where the link leads, so that it is that of whoever reads the mail.
    """
    asked = select(JoinRequest).where(JoinRequest.email == email)
    waits = session.exec(asked.where(JoinRequest.state == "waiting")).first()
    if _person(session, email) is not None or waits is not None:
        there = "has an account already" if waits is None else "has asked to join already, and waits for a decision"
        text = (
            f"Someone signed up at {portal} with this address, which {there}."
            f" With an account, sign in at {portal}/sign-in, or set a new password at {portal}/forgot."
            " If it was not you, do nothing."
        )
        send(
            session, email, "You have an account already" if waits is None else "Your request waits", text, secret=True
        )
        return
    if len(session.exec(asked.where(JoinRequest.state == "unconfirmed")).all()) >= MOST_OPEN:
        return
    title = " ".join(organization.split())
    query = select(Organization).where(func.lower(Organization.title) == title.lower())
    known = session.exec(query).first()
    wanted = JoinRequest(
        email=email, name=name, password_hash="", organization=title,
        organization_id=known.id if known is not None else None, message=message.strip()[:1000],
    )  # fmt: skip
    session.add(wanted)
    session.flush()
    token = new_link(session, "confirm", wanted.id, email, email)
    text = (
        f"Someone, as {name}, signed up with this address to join {title}. If it was you, confirm it within two days"
        f" and choose your password:\n\n{portal}/join/confirm/{token}\n\nIf it was not you, do nothing."
    )
    send(session, email, "Confirm your address", text, secret=True)
    session.flush()


def to_confirm(session: Session, token: str) -> JoinRequest | None:
    """What a link confirms, or None where it is good no longer."""
    link = find_link(session, token, "confirm")
    wanted = session.get(JoinRequest, link.subject) if link is not None else None
    return wanted if wanted is not None and wanted.state == "unconfirmed" else None


def confirm(session: Session, actor: Actor, token: str, password: str) -> JoinRequest:
    """An address is confirmed, and its owner chooses the password; whoever decides is told."""
    link = use_link(session, token, "confirm")
    wanted = session.get(JoinRequest, link.subject)
    if wanted is None or wanted.state != "unconfirmed":
        raise NotPossible("This link is no longer valid: the request was repeated or decided.")
    problem = password_problem(password, wanted.email)
    if problem is not None:
        raise NotPossible(f"The password {problem}.", "password")
    wanted.state, wanted.password_hash = "waiting", hash_password(password)
    session.add(wanted)
    others = select(JoinRequest).where(
        JoinRequest.email == wanted.email, JoinRequest.state == "unconfirmed", JoinRequest.id != wanted.id
    )
    for one in session.exec(others):
        session.delete(one)  # whoever reads the mail has chosen
    organization = session.get(Organization, wanted.organization_id) if wanted.organization_id else None
    title = f"{wanted.name} asks to join {organization.title if organization is not None else wanted.organization}"
    text = f"{wanted.name} ({wanted.email}) confirmed the address and waits for a decision."
    if wanted.message:
        text += f" Their message: ‘{wanted.message}’."
    if organization is not None:
        telling.tell_organization(session, organization, None, title, f"{text} Decide in the portal, under Team.")
    else:
        telling.tell_admins(session, title, f"{text} Decide in the console, under Subscribers.")
    auditing.record(session, actor, "confirm address", wanted.email)
    session.flush()
    return wanted


def waiting(session: Session, organization: Organization | None = None) -> list[JoinRequest]:
    """Requests that wait for a decision; of one organization, or all."""
    query = select(JoinRequest).where(JoinRequest.state == "waiting").order_by(col(JoinRequest.made_at))
    if organization is not None:
        query = query.where(JoinRequest.organization_id == organization.id)
    return list(session.exec(query))


def approve(
    session: Session, actor: Actor, wanted: JoinRequest, organization: Organization, role: str, portal: str
) -> Person:
    """Let someone in who asked. Raises `NotPossible` where they cannot be."""
    if wanted.state != "waiting":
        raise NotPossible(f"This request is {wanted.state}; there is nothing left to decide.")
    if role not in ("lead", "member"):
        raise NotPossible(f"{role!r} is not a role in an organization; it is lead or member.", "role")
    if _person(session, wanted.email) is not None:
        raise NotPossible(f"{wanted.email} has an account already.")
    person = Person(
        organization_id=organization.id, email=wanted.email, name=wanted.name, role=role,
        password_hash=wanted.password_hash,
    )  # fmt: skip
    session.add(person)
    _decide(session, actor, wanted, "joined")
    wanted.organization_id = organization.id
    text = f"{wanted.name},\n\nyou are in: sign in at {portal}/sign-in with the password that you chose."
    send(session, wanted.email, f"Welcome to {organization.title}", text)
    auditing.record(session, actor, "approve person", wanted.email, organization=organization.name, role=role)
    session.flush()
    return person


def decline(session: Session, actor: Actor, wanted: JoinRequest, reason: str) -> None:
    """Turn someone down who asked, with a reason that they are told."""
    if wanted.state != "waiting":
        raise NotPossible(f"This request is {wanted.state}; there is nothing left to decide.")
    reason = reason.strip()[:500]
    if not reason:
        raise NotPossible("Say why: the reason is what they read in the mail.", "reason")
    _decide(session, actor, wanted, "declined")
    wanted.reason, wanted.password_hash = reason, ""
    text = f"{wanted.name},\n\nyour request to join {wanted.organization} was declined: {reason}"
    send(session, wanted.email, "Your request was declined", text)
    auditing.record(session, actor, "decline person", wanted.email, reason=reason)
    session.flush()


def _decide(session: Session, actor: Actor, wanted: JoinRequest, state: str) -> None:
    wanted.state, wanted.decided_at, wanted.decided_by = state, now(), actor.name
    session.add(wanted)


_PLACES = frozenset({"people", "applications", "subscriptions", "requests", "notices"})
"""Names that addresses of the console have already where an organization's would stand."""


def new_organization(session: Session, actor: Actor, title: str, kind: str = "partner") -> Organization:
    """An organization by its title. Raises `NotPossible` where it cannot be made."""
    title = a_line(title, 80, "title", "The organization's name")
    if kind not in ("internal", "partner"):
        raise NotPossible(f"{kind!r} is not a kind of organization; it is internal or partner.", "kind")
    name = slug(title)
    if name in RESERVED or name in _PLACES:
        raise NotPossible(f"{title!r} is a reserved word here; choose another name.", "title")
    if session.exec(select(Organization).where(Organization.name == name)).first() is not None:
        raise NotPossible(f"There is an organization called {title} already.", "title")
    made = Organization(name=name, title=title, kind=kind)
    session.add(made)
    auditing.record(session, actor, "make organization", name)
    session.flush()
    return made


def invite(session: Session, actor: Actor, organization: Organization, email: str, role: str, portal: str) -> None:
    """Ask someone in, by mail; the link lets them choose name and password."""
    if role not in ("lead", "member"):
        raise NotPossible(f"{role!r} is not a role in an organization; it is lead or member.", "role")
    if _person(session, email) is not None:
        raise NotPossible(f"{email} has an account already; a person has only one.", "email")
    token = new_link(session, "invite", "", email, actor.name, organization.id, role)
    text = (
        f"{actor.name} asks you to join {organization.title} as {role}. Choose your name and password within seven"
        f" days:\n\n{portal}/invitation/{token}"
    )
    send(session, email, f"Join {organization.title}", text, secret=True)
    auditing.record(session, actor, "invite person", email, organization=organization.name, role=role)
    session.flush()


def invitations(session: Session, organization: Organization) -> list[MailLink]:
    """Invitations that were not taken up yet."""
    query = select(MailLink).where(
        MailLink.purpose == "invite", MailLink.organization_id == organization.id, col(MailLink.used_at).is_(None),
        col(MailLink.expires_at) > now(),
    )  # fmt: skip
    return list(session.exec(query.order_by(col(MailLink.made_at))))


def withdraw(session: Session, actor: Actor, organization: Organization, email: str) -> None:
    """Take an invitation back."""
    found = [one for one in invitations(session, organization) if one.email == email]
    if not found:
        raise NotPossible(f"No invitation to {email} is open.")
    for one in found:
        one.used_at = now()
        session.add(one)
    auditing.record(session, actor, "withdraw invitation", email, organization=organization.name)


def take_up(session: Session, actor: Actor, token: str, name: str, password: str) -> Person:
    """Someone takes up an invitation. Raises `NotPossible`, with the field at fault."""
    link = use_link(session, token, "invite")
    name = a_line(name, 120, "name", "The name")
    problem = password_problem(password, link.email)
    if problem is not None:
        raise NotPossible(f"The password {problem}.", "password")
    organization = session.get(Organization, link.organization_id)
    if organization is None or _person(session, link.email) is not None:
        raise NotPossible(f"{link.email} has an account already; sign in.")
    person = Person(
        organization_id=organization.id, email=link.email, name=name, role=link.role,
        password_hash=hash_password(password),
    )  # fmt: skip
    session.add(person)
    auditing.record(session, actor, "join by invitation", link.email, organization=organization.name, role=link.role)
    session.flush()
    return person


def forgot(session: Session, email: str, portal: str) -> None:
    """Someone forgot the password: a mail with a link, where there is such an account."""
    person = _person(session, email)
    if person is None or not person.active:
        return
    token = new_link(session, "reset", person.id, email, email)
    text = (
        f"{person.name},\n\nset a new password within the hour:\n\n{portal}/reset/{token}\n\n"
        "If you did not ask for it, do nothing: your password stays as it is."
    )
    send(session, email, "Set a new password", text, secret=True)
    session.flush()


def set_forgotten(session: Session, actor: Actor, token: str, password: str) -> Person:
    """Set a new password by a link; every session of the person ends. Raises `NotPossible`."""
    link = use_link(session, token, "reset")
    problem = password_problem(password, link.email)
    if problem is not None:
        raise NotPossible(f"The password {problem}.", "password")
    person = session.get(Person, link.subject)
    if person is None or not person.active:
        raise NotPossible("This account may not sign in; ask a lead of your organization.")
    set_password(session, person, password)
    auditing.record(session, actor, "reset password", person.email)
    return person


def set_password(session: Session, person: Person, password: str, must_change: bool = False) -> None:
    """Give a person a password; every session ends. `must_change`: they choose their own at the next sign-in."""
    person.password_hash = hash_password(password)
    person.must_change_password = must_change
    person.session_epoch += 1
    session.add(person)
    session.flush()


def change_person(session: Session, actor: Actor, person: Person, role: str, active: bool) -> None:
    """Change a person's role, or whether they may sign in. An organization keeps a lead."""
    if role not in ("lead", "member"):
        raise NotPossible(f"{role!r} is not a role in an organization; it is lead or member.", "role")
    leads = select(Person).where(
        Person.organization_id == person.organization_id, Person.role == "lead", Person.active, Person.id != person.id
    )
    if person.role == "lead" and person.active and not (role == "lead" and active) and not session.exec(leads).first():
        raise NotPossible(f"{person.name} is the only lead; make someone else a lead first.")
    person.role, person.active = role, active
    person.session_epoch += 1
    session.add(person)
    auditing.record(session, actor, "change person", person.email, role=role, active=active)
    session.flush()


def drop_stale(session: Session, before: datetime) -> int:
    """Remove links and unconfirmed requests that are long over; returns how many."""
    stale: list[JoinRequest | MailLink] = [
        *session.exec(select(JoinRequest).where(JoinRequest.state == "unconfirmed", col(JoinRequest.made_at) < before)),
        *session.exec(select(MailLink).where(col(MailLink.expires_at) < before)),
    ]
    for one in stale:
        session.delete(one)
    return len(stale)
