"""Links sent by mail: made, found, and used once. Only the digest of a link's token is kept."""

import secrets
from datetime import timedelta
from hashlib import sha256

from sqlmodel import Session, col, select

from tamarack.store.columns import now
from tamarack.store.errors import NotPossible
from tamarack.store.joining.tables import MailLink
from tamarack.store.mail.tables import Mail

LIVES = {
    "confirm": timedelta(days=2),
    "invite": timedelta(days=7),
    "reset": timedelta(hours=1),
    "user-sign-up": timedelta(days=2),
    "user-invite": timedelta(days=7),
    "user-reset": timedelta(hours=1),
}
"""How long a link is good, by its purpose."""


def _digest(token: str) -> str:
    return sha256(token.encode()).hexdigest()


def new_link(session: Session, purpose: str, subject: str, email: str, made_by: str, organization: str | None = None,
          role: str = "") -> str:  # fmt: skip
    """A new link's token; earlier ones of the same purpose for the same are good no longer."""
    earlier = select(MailLink).where(
        MailLink.purpose == purpose, MailLink.email == email, MailLink.organization_id == organization,
        MailLink.subject == subject, col(MailLink.used_at).is_(None),
    )  # fmt: skip
    for one in session.exec(earlier):
        one.used_at = now()
        session.add(one)
    token = secrets.token_urlsafe(24)
    session.add(
        MailLink(
            digest=_digest(token), purpose=purpose, subject=subject, email=email, organization_id=organization,
            role=role, made_by=made_by, expires_at=now() + LIVES[purpose],
        )
    )  # fmt: skip
    return token


def find_link(session: Session, token: str, purpose: str) -> MailLink | None:
    """A link that is good, or None."""
    found = session.get(MailLink, _digest(token))
    if found is None or found.purpose != purpose or found.used_at is not None or found.expires_at <= now():
        return None
    return found


def use_link(session: Session, token: str, purpose: str) -> MailLink:
    """Use a link, once. Raises `NotPossible` where it is good no longer."""
    query = select(MailLink).where(MailLink.digest == _digest(token)).with_for_update()
    found = session.exec(query).first()
    if found is None or found.purpose != purpose or found.used_at is not None or found.expires_at <= now():
        raise NotPossible("This link is no longer valid: it was used, is too old, or a newer one was sent.")
    found.used_at = now()
    session.add(found)
    return found


def send(session: Session, to: str, subject: str, text: str, secret: bool = False) -> None:
    """A mail; `secret` where it holds a link that lets someone in."""
    session.add(Mail(to=to, subject=subject, text=text + "\n", secret=secret))
