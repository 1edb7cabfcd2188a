"""What end users do by a link in a mail: sign up, take up an invitation, and set a password that was forgotten.

What a stranger is told never depends on whether there is such a user; the mail says more. Whoever follows a link has
confirmed the address.
"""

from __future__ import annotations

from urllib.parse import quote

from sqlmodel import Session

from tamarack.core.sign_in.password_rules import Broken, broken_rules
from tamarack.store.audit import log as auditing
from tamarack.store.audit.log import Actor
from tamarack.store.columns import now
from tamarack.store.errors import NotPossible
from tamarack.store.joining.links import find_link, new_link, send, use_link
from tamarack.store.joining.tables import JoinAsk, MailLink
from tamarack.store.people.passwords import hash_password
from tamarack.store.sign_in import grants as granting
from tamarack.store.sign_in.tables import Directory, EndUser
from tamarack.store.sign_in.users import change_password, new_account, user_with

JOIN = ("user-sign-up", "user-invite")


def answer(session: Session, asked: JoinAsk, service: str) -> None:
    """Answer what a stranger asked for at a directory, by mail; `service` is the sign-in service's address."""
    directory = session.get(Directory, asked.said.get("directory", ""))
    if directory is None or not directory.active:
        return
    base, after = f"{service}/{directory.name}", _after(asked.said.get("next", ""))
    user = user_with(session, directory.name, asked.email)
    if asked.purpose == "user-reset":
        if user is not None and user.active:
            token = new_link(session, "user-reset", user.id, user.email, user.email)
            text = (
                f"{user.name},\n\nset a new password for {directory.title} within the hour:\n\n{base}"
                f"/reset/{token}{after}\n\nIf you did not ask for it, do nothing: your password stays as it is."
            )
            send(session, user.email, "Set a new password", text, secret=True)
    elif user is not None:
        text = (
            f"Someone signed up to {directory.title} with this address, which has an account already. Sign in at"
            f" {base}/sign-in, or set a new password at {base}/forgot. If it was not you, do nothing."
        )
        send(session, asked.email, "You have an account already", text, secret=True)
    elif directory.sign_up:
        name = asked.said.get("name", "")
        token = new_link(session, "user-sign-up", directory.name, asked.email, name)
        text = (
            f"Someone, as {name}, signed up to {directory.title} with this address. If it was you, choose your password"
            f" within two days:\n\n{base}/join/{token}{after}\n\nIf it was not you, do nothing."
        )
        send(session, asked.email, "Confirm your address", text, secret=True)
    session.flush()


def _after(target: str) -> str:
    return f"?next={quote(target, safe='')}" if target else ""


def invite(session: Session, actor: Actor, directory: Directory, email: str, name: str, service: str) -> None:
    """Ask someone in, by mail; the link lets them choose their password. Raises `NotPossible`."""
    email, name = new_account(session, directory, email, name)
    token = new_link(session, "user-invite", directory.name, email, name)
    text = (
        f"{name},\n\nyou are asked to join {directory.title}. Choose your password within seven days:\n\n"
        f"{service}/{directory.name}/join/{token}"
    )
    send(session, email, f"Join {directory.title}", text, secret=True)
    auditing.record(session, actor, "invite user", email, directory=directory.name)
    session.flush()


def joining(session: Session, directory: Directory, token: str) -> MailLink | None:
    """The sign-up or invitation that a link stands for, or None where it is good no longer."""
    found = next((link for link in (find_link(session, token, purpose) for purpose in JOIN) if link), None)
    if found is None or found.subject != directory.name or (found.purpose == "user-sign-up" and not directory.sign_up):
        return None
    return found if user_with(session, directory.name, found.email) is None else None


def join(session: Session, actor: Actor, directory: Directory, token: str, password: str) -> EndUser | list[Broken]:
    """Make the user whom a link asks in, or say every rule that the password breaks; then the link stays good.

    Raises `NotPossible` where it is good no longer.
    """
    link = joining(session, directory, token)
    if link is None:
        raise NotPossible("This link is no longer valid: it was used, is too old, or a newer one was sent.")
    name, email = link.made_by, link.email
    if broken := broken_rules(password, directory.password_rules, (email, name)):
        return broken
    use_link(session, token, link.purpose)
    made = EndUser(directory=directory.name, email=email, name=name, password_hash=hash_password(password),
                   email_confirmed=True, seen_at=now())  # fmt: skip
    session.add(made)
    session.flush()
    auditing.record(session, actor, "user joined", made.id, directory=directory.name)
    return made


def resetting(session: Session, directory: Directory, token: str) -> EndUser | None:
    """Whose password a link sets, or None where it is good no longer."""
    link = find_link(session, token, "user-reset")
    user = session.get(EndUser, link.subject) if link is not None else None
    return user if user is not None and user.active and user.directory == directory.name else None


def set_forgotten(session: Session, actor: Actor, directory: Directory, token: str, password: str) -> list[Broken]:
    """Set a new password by a link, or say every rule that it breaks; sessions and tokens end.

    Raises `NotPossible` where the link is good no longer.
    """
    user = resetting(session, directory, token)
    if user is None:
        raise NotPossible("This link is no longer valid: it was used, is older than an hour, or a newer one was sent.")
    if broken := change_password(session, user, password):
        return broken
    use_link(session, token, "user-reset")
    user.email_confirmed = True
    session.add(user)
    granting.end_all_of(session, user.id, "password set anew by mail")
    auditing.record(session, actor, "set forgotten password of user", user.id, directory=directory.name)
    return []
