"""Grants, and the codes and refresh tokens that come from them: each used once, however many ask at the same moment.

A code or token that is used a second time ends its grant, for one of the two who hold it is not who it was given to
(RFC 6749, 4.1.2; RFC 9700, 4.14.2).
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta
from typing import Literal

from sqlmodel import Session, col, delete, func, select, update

from tamarack.store.audit import log as auditing
from tamarack.store.audit.log import Actor
from tamarack.store.columns import now
from tamarack.store.feed import items as feeding
from tamarack.store.rollouts.tables import FeedItem
from tamarack.store.sign_in.tables import (
    AuthorizationCode,
    Consent,
    DeviceRequest,
    OpaqueToken,
    PushedRequest,
    RefreshToken,
    SignInClient,
    SignInGrant,
)

CODE_LIVES = timedelta(seconds=60)
Use = Literal["used", "again", "over", "unknown"]


def new_grant(
    session: Session,
    client: SignInClient,
    user_id: str | None,
    scopes: Sequence[str],
    resources: Sequence[str] = (),
    auth_at: datetime | None = None,
) -> SignInGrant:
    """Grant scopes to a client, at some resources or at all of its environment; by a user who had signed in then."""
    made = SignInGrant(client_id=client.id, user_id=user_id, scopes=list(scopes), resources=list(resources),
                       auth_at=auth_at)  # fmt: skip
    session.add(made)
    session.flush()
    return made


def lives_until(session: Session, grant: SignInGrant, until: datetime) -> None:
    """An access token of a grant is good until then."""
    grant.expires_at = max(grant.expires_at, until)
    session.add(grant)
    session.flush()


def end_grant(session: Session, grant: SignInGrant, why: str) -> None:
    """End a grant: nodes refuse its access tokens within a second, and its refresh tokens are good for nothing."""
    if grant.ended_at is not None:
        return
    grant.ended_at, grant.why = now(), why
    session.add(grant)
    session.flush()
    if grant.expires_at > now():
        feeding.publish(
            session, "ended-grant", grant.id, {"until": grant.expires_at.timestamp(), "at": now().timestamp()}
        )


def end_all_of(session: Session, user_id: str, why: str) -> None:
    """End whatever a user has granted."""
    _end_all(session, SignInGrant.user_id == user_id, why)


def end_all_to(session: Session, client_id: str, why: str) -> None:
    """End whatever was granted to a client."""
    _end_all(session, SignInGrant.client_id == client_id, why)


def end_granted(session: Session, actor: Actor, client: SignInClient) -> None:
    """Staff end whatever was granted to a client, which goes on as it is."""
    end_all_to(session, client.id, "ended by staff")
    auditing.record(session, actor, "end tokens of client", client.id)


def end_consent(session: Session, user_id: str, client_id: str) -> None:
    """A user takes back what they agreed to for a client; what came of it ends."""
    consent = session.get(Consent, (user_id, client_id))
    if consent is not None:
        session.delete(consent)
    open_ones = select(SignInGrant).where(
        SignInGrant.user_id == user_id, SignInGrant.client_id == client_id, col(SignInGrant.ended_at).is_(None)
    )
    for grant in session.exec(open_ones):
        end_grant(session, grant, "taken back by the user")


def _end_all(session: Session, whose: object, why: str) -> None:
    for grant in session.exec(select(SignInGrant).where(whose, col(SignInGrant.ended_at).is_(None))):  # type: ignore[arg-type]
        end_grant(session, grant, why)


def agree(session: Session, user_id: str, client_id: str, scopes: Sequence[str]) -> None:
    """Remember what a user agrees to for a client, beside what they did before."""
    found = session.get(Consent, (user_id, client_id)) or Consent(user_id=user_id, client_id=client_id)
    found.scopes = list(dict.fromkeys([*found.scopes, *scopes]))
    found.given_at = now()
    session.add(found)
    session.flush()


def agreements(session: Session, user_id: str) -> list[tuple[Consent, SignInClient]]:
    """What a user has agreed to, and for which client."""
    query = select(Consent, SignInClient).where(Consent.client_id == SignInClient.id, Consent.user_id == user_id)
    return [(consent, client) for consent, client in session.exec(query.order_by(SignInClient.title))]


def agreed(session: Session, user_id: str, client_id: str) -> list[str]:
    """The scopes that a user has agreed to for a client."""
    found = session.get(Consent, (user_id, client_id))
    return list(found.scopes) if found is not None else []


def use_code(session: Session, digest: str) -> tuple[Use, AuthorizationCode | None]:
    """Use a code, once: of many at the same moment one uses it. Its grant ends where it was used before."""
    taken = session.exec(
        update(AuthorizationCode)
        .where(col(AuthorizationCode.digest) == digest, col(AuthorizationCode.used_at).is_(None))
        .values(used_at=now())
        .execution_options(synchronize_session=False)
    )
    code = session.get(AuthorizationCode, digest, populate_existing=True)
    return _used(session, code, taken.rowcount, "a code was used twice"), code


def use_refresh_token(session: Session, digest: str) -> tuple[Use, RefreshToken | None]:
    """Use a refresh token, once; see `use_code`."""
    taken = session.exec(
        update(RefreshToken)
        .where(col(RefreshToken.digest) == digest, col(RefreshToken.used_at).is_(None))
        .values(used_at=now())
        .execution_options(synchronize_session=False)
    )
    token = session.get(RefreshToken, digest, populate_existing=True)
    return _used(session, token, taken.rowcount, "a refresh token was used twice"), token


def _used(session: Session, found: AuthorizationCode | RefreshToken | None, rows: int, why: str) -> Use:
    if found is None:
        return "unknown"
    grant = session.get(SignInGrant, found.grant_id)
    assert grant is not None
    if not rows:
        end_grant(session, grant, why)
        return "again"
    return "used" if grant.ended_at is None and found.expires_at > now() else "over"


def drop_ended(session: Session) -> None:
    """Forget codes and refresh tokens that are over for a day, and what nodes need no longer know."""
    before = now() - timedelta(days=1)
    session.exec(delete(AuthorizationCode).where(col(AuthorizationCode.expires_at) < before))
    session.exec(delete(RefreshToken).where(col(RefreshToken.expires_at) < before))
    session.exec(delete(OpaqueToken).where(col(OpaqueToken.expires_at) < before))
    session.exec(delete(PushedRequest).where(col(PushedRequest.expires_at) < before))
    session.exec(delete(DeviceRequest).where(col(DeviceRequest.expires_at) < before))
    newest = session.exec(select(func.max(FeedItem.seq))).one()  # it stays: the next number counts from it
    for item in session.exec(select(FeedItem).where(FeedItem.kind == "ended-grant", FeedItem.seq != newest)):
        if item.body is None or float(item.body["until"]) < before.timestamp():
            session.delete(item)  # nodes that read it forget it by themselves
