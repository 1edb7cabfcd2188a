"""Devices without a keyboard: a request, its user's answer elsewhere, and the one grant of it (RFC 8628)."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta
from typing import Literal

from sqlmodel import Session, col, select, update

from tamarack.store.columns import now
from tamarack.store.sign_in import grants as granting
from tamarack.store.sign_in.tables import DeviceRequest, EndUser, SignInClient, SignInGrant

LIVES = timedelta(minutes=10)
INTERVAL_S = 5
"""Between two questions of a device; one that asks sooner waits this much longer from then on (RFC 8628, 3.5)."""
ALPHABET = "BCDFGHJKLMNPQRSTVWXZ"
"""Of the code that a user types: no vowels, so that no words come of it (RFC 8628, 6.1)."""

Standing = Literal["waiting", "too soon", "denied", "over", "allowed"]


def as_typed(code: str) -> str:
    """A user's code however it was typed: in small letters, with spaces or without the hyphen."""
    return "".join(letter for letter in code[:40].upper() if letter in ALPHABET)


def begin(
    session: Session,
    client: SignInClient,
    scopes: Sequence[str],
    digest: str,
    user_digest: str,
    resources: Sequence[str] = (),
) -> None:
    """A device begins to wait."""
    session.add(
        DeviceRequest(
            digest=digest,
            user_digest=user_digest,
            client_id=client.id,
            scopes=list(scopes),
            resources=list(resources),
            expires_at=now() + LIVES,
            interval_s=INTERVAL_S,
        )
    )
    session.flush()


def waiting(session: Session, user_digest: str, directory: str) -> tuple[DeviceRequest, SignInClient] | None:
    """The device of a directory that waits with the code that a user typed."""
    query = select(DeviceRequest, SignInClient).where(
        DeviceRequest.client_id == SignInClient.id,
        DeviceRequest.user_digest == user_digest,
        DeviceRequest.answer == "",
        col(DeviceRequest.expires_at) > now(),
        SignInClient.directory == directory,
        col(SignInClient.revoked_at).is_(None),
    )
    return session.exec(query).first()


def answer(
    session: Session, found: DeviceRequest, client: SignInClient, user: EndUser, allowed: bool, auth_at: datetime
) -> bool:
    """The user's answer, given once; False where it was given already."""
    taken = session.exec(
        update(DeviceRequest)
        .where(col(DeviceRequest.digest) == found.digest, col(DeviceRequest.answer) == "")
        .values(answer="allow" if allowed else "deny", auth_at=auth_at)
        .execution_options(synchronize_session=False)
    )
    if not taken.rowcount:
        return False
    if allowed:
        granting.agree(session, user.id, client.id, found.scopes)
        session.refresh(found)
        found.grant_id = granting.new_grant(session, client, user.id, found.scopes, found.resources, auth_at).id
        session.add(found)
        session.flush()
    return True


def ask(session: Session, found: DeviceRequest) -> Standing:
    """A device asks how it stands. The yes is used once: a second use of it ends the grant."""
    if found.expires_at <= now() and found.used_at is None:
        return "over"
    if found.answer == "deny":
        return "denied"
    if found.answer == "allow":
        return _use(session, found)
    too_soon = found.asked_at is not None and now() - found.asked_at < timedelta(seconds=found.interval_s)
    found.interval_s += INTERVAL_S if too_soon else 0
    found.asked_at = now()
    session.add(found)
    session.flush()
    return "too soon" if too_soon else "waiting"


def _use(session: Session, found: DeviceRequest) -> Standing:
    taken = session.exec(
        update(DeviceRequest)
        .where(col(DeviceRequest.digest) == found.digest, col(DeviceRequest.used_at).is_(None))
        .values(used_at=now())
        .execution_options(synchronize_session=False)
    )
    grant = session.get(SignInGrant, found.grant_id)
    assert grant is not None
    if not taken.rowcount:
        granting.end_grant(session, grant, "a device code was used twice")
        return "over"
    return "allowed" if grant.ended_at is None else "over"
