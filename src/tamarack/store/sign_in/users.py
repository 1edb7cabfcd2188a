"""End users of a directory: made by staff, found, signed in, their passwords changed, locked and let in again."""

from __future__ import annotations

import secrets
from typing import Any

from sqlmodel import Session, col, func, or_, select

from tamarack.core.identity.mail_address import email_problem
from tamarack.core.sign_in.password_rules import Broken, PasswordRules, broken_rules
from tamarack.core.sign_in.tokens import RESERVED
from tamarack.store.audit import log as auditing
from tamarack.store.audit.log import Actor
from tamarack.store.columns import now
from tamarack.store.errors import NotPossible
from tamarack.store.lines import a_line
from tamarack.store.people.attempts import account_of
from tamarack.store.people.passwords import hash_password, verify_password
from tamarack.store.sign_in import grants as granting
from tamarack.store.sign_in.tables import Directory, EndUser

_LETTERS = "abcdefghijkmnpqrstuvwxyz"
_DIGITS = "23456789"
MOST_CLAIMS = 40


def directories(session: Session) -> list[Directory]:
    """Every directory, by title."""
    return list(session.exec(select(Directory).order_by(Directory.title)))


def make_directory(session: Session, actor: Actor, name: str, title: str, rules: PasswordRules) -> Directory:
    """Make a directory. Raises `NotPossible` for a name that is taken."""
    if session.get(Directory, name) is not None:
        raise NotPossible(f"there is a directory {name!r} already; choose another name", "name")
    made = Directory(name=name, title=title, rules=rules.model_dump(mode="json"))
    session.add(made)
    session.flush()
    auditing.record(session, actor, "make directory", name)
    return made


def find_users(session: Session, directory: str, text: str, most: int, skip: int = 0) -> tuple[list[EndUser], int]:
    """The users whose name or mail address holds a text, by mail address, and how many there are in all."""
    query = select(EndUser).where(EndUser.directory == directory)
    if text:
        found = (col(one).icontains(text, autoescape=True) for one in (EndUser.email, EndUser.name))
        query = query.where(or_(*found))
    total = session.exec(select(func.count()).select_from(query.subquery())).one()
    return list(session.exec(query.order_by(col(EndUser.email)).offset(skip).limit(most))), total


def temporary_password(rules: PasswordRules) -> str:
    """A password that staff hand out, which has to be changed at the first sign-in; it keeps the rules."""
    while True:
        made = "-".join("".join(secrets.choice(_LETTERS) for _ in range(5)) for _ in range(3))
        made = f"{made.capitalize()}-{secrets.choice(_DIGITS)}{secrets.choice(_DIGITS)}"
        if not broken_rules(made.ljust(rules.shortest, "x"), rules):
            return made.ljust(rules.shortest, "x")


def user_with(session: Session, directory: str, email: str) -> EndUser | None:
    """The user of a directory with a mail address, as `account_of` writes it."""
    return session.exec(select(EndUser).where(EndUser.directory == directory, EndUser.email == email)).first()


def new_account(session: Session, directory: Directory, email: str, name: str) -> tuple[str, str]:
    """Mail address and name of a user to be, as they are kept. Raises `NotPossible`, also where it is there."""
    email = account_of(email)
    if wrong := email_problem(email):
        raise NotPossible(wrong, "email")
    name = a_line(name, 120, "name", "The name")
    if user_with(session, directory.name, email) is not None:
        raise NotPossible(f"{directory.title} has a user {email} already", "email")
    return email, name


def make_user(session: Session, actor: Actor, directory: Directory, email: str, name: str, password: str) -> EndUser:
    """Make a user with a password that someone else set: it has to be changed. Raises `NotPossible`."""
    email, name = new_account(session, directory, email, name)
    made = EndUser(directory=directory.name, email=email, name=name, password_hash=hash_password(password),
                   must_change_password=True)  # fmt: skip
    session.add(made)
    session.flush()
    auditing.record(session, actor, "make user", made.id, directory=directory.name)
    return made


def sign_in_user(session: Session, directory: str, email: str, password: str) -> EndUser | None:
    """The user who signs in, or None where account or password is wrong; time tells no difference."""
    found = user_with(session, directory, account_of(email))
    good = verify_password(found.password_hash if found is not None else None, password)
    if found is None or not good or not found.active:
        return None
    found.seen_at = now()
    session.add(found)
    return found


def change_password(session: Session, user: EndUser, new: str) -> list[Broken]:
    """Give a user the password that they chose; every rule that it breaks, and then nothing is changed.

    Their other sessions end.
    """
    directory = session.get(Directory, user.directory)
    assert directory is not None
    same = verify_password(user.password_hash, new)
    broken = broken_rules(new, directory.password_rules, (user.email, user.name), was=same)
    if not broken:
        user.password_hash = hash_password(new)
        user.must_change_password = False
        user.session_epoch += 1
        session.add(user)
        session.flush()
    return broken


def reset_password(session: Session, actor: Actor, user: EndUser) -> str:
    """Give a user a temporary password, which they have to change; all their sessions and tokens end."""
    directory = session.get(Directory, user.directory)
    assert directory is not None
    password = temporary_password(directory.password_rules)
    user.password_hash = hash_password(password)
    user.must_change_password = True
    _out(session, user, "password reset by staff")
    auditing.record(session, actor, "reset password of user", user.id, directory=user.directory)
    return password


def require_change(session: Session, actor: Actor, user: EndUser) -> None:
    """Have a user choose another password at the next sign-in; their sessions end, and tokens are renewed no more."""
    user.must_change_password = True
    user.session_epoch += 1
    session.add(user)
    session.flush()
    auditing.record(session, actor, "require new password of user", user.id, directory=user.directory)


def end_sessions(session: Session, actor: Actor, user: EndUser) -> None:
    """End every session of a user, and all that they granted."""
    _out(session, user, "ended by staff")
    auditing.record(session, actor, "end sessions of user", user.id, directory=user.directory)


def set_active(session: Session, actor: Actor, user: EndUser, active: bool) -> None:
    """Lock a user out, sessions and tokens with them, or let them in again."""
    user.active = active
    if not active:
        _out(session, user, "locked by staff")
    session.add(user)
    session.flush()
    auditing.record(session, actor, "let user in" if active else "lock user", user.id, directory=user.directory)


def _out(session: Session, user: EndUser, why: str) -> None:
    user.session_epoch += 1
    session.add(user)
    session.flush()
    granting.end_all_of(session, user.id, why)


def set_facts(session: Session, actor: Actor, user: EndUser, groups: list[str], claims: dict[str, Any]) -> None:
    """Set a user's groups and free claims. Raises `NotPossible`."""
    taken = next((name for name in claims if name in RESERVED), None)
    if taken is not None:
        raise NotPossible(f"{taken!r} is what the service itself says of a user; name the claim otherwise", "claims")
    if len(claims) > MOST_CLAIMS or len(str(claims)) > 4_000:
        raise NotPossible(f"a token carries at most {MOST_CLAIMS} claims and 4,000 characters of them", "claims")
    user.groups, user.claims = groups, claims
    session.add(user)
    session.flush()
    auditing.record(session, actor, "set groups and claims of user", user.id, directory=user.directory)
