"""Clients of the sign-in service: made for an application, their secret replaced, revoked."""

from __future__ import annotations

import secrets
from collections.abc import Sequence
from datetime import timedelta
from hmac import compare_digest

from sqlmodel import Session, col, select

from tamarack.core.identity.credentials import digest
from tamarack.core.sign_in.redirects import MOST, redirect_problem
from tamarack.store.applications.tables import Application
from tamarack.store.audit import log as auditing
from tamarack.store.audit.log import Actor
from tamarack.store.columns import now
from tamarack.store.errors import NotPossible
from tamarack.store.lines import a_line
from tamarack.store.sign_in import grants as granting
from tamarack.store.sign_in.tables import Directory, SignInClient

CODE, CLIENT, REFRESH = "authorization_code", "client_credentials", "refresh_token"
DEVICE = "urn:ietf:params:oauth:grant-type:device_code"
GRANTS = {
    CODE: "signs users in",
    CLIENT: "calls for itself",
    REFRESH: "stays signed in",
    DEVICE: "signs users in on a device without a keyboard",
}
"""The grants that a client may use, and what they mean."""


def digest_of(value: str, pepper: bytes) -> str:
    """What is kept of a secret, code or token: a keyed hash."""
    return digest(value.encode("utf-8", "replace"), pepper, "sign-in")


def new_secret() -> str:
    """A client's secret, code or token: 256 random bits."""
    return secrets.token_urlsafe(32)


def make_client(
    session: Session,
    actor: Actor,
    application: Application,
    directory: Directory,
    environment: str,
    title: str,
    grants: Sequence[str],
    redirects: Sequence[str],
    scopes: Sequence[str],
    confidential: bool,
    pepper: bytes,
) -> tuple[SignInClient, str]:
    """A client, and its secret (empty for a public one), which is never shown again. Raises `NotPossible`."""
    title = a_line(title, 120, "title", "The title")
    chosen = [grant for grant in GRANTS if grant in grants]
    if not set(chosen) & {CODE, CLIENT, DEVICE}:
        raise NotPossible("choose what the client does: sign users in, call for itself, or both", "grants")
    if CLIENT in chosen and not confidential:
        raise NotPossible("only a client that keeps a secret can call for itself", "confidential")
    if CODE in chosen and not redirects:
        raise NotPossible("write where users are sent back to, like https://app.example/back", "redirects")
    if len(redirects) > MOST:
        raise NotPossible(f"at most {MOST} addresses fit", "redirects")
    for address in redirects:
        if wrong := redirect_problem(address):
            raise NotPossible(f"{address[:80]!r} {wrong}", "redirects")
    secret = new_secret() if confidential else ""
    made = SignInClient(
        id=f"{application.name[:40]}-{secrets.token_hex(6)}",
        application_id=application.id,
        directory=directory.name,
        environment=environment,
        title=title,
        confidential=confidential,
        secret_digest=digest_of(secret, pepper) if secret else "",
        redirects=list(dict.fromkeys(redirects)),
        grants=chosen,
        scopes=list(dict.fromkeys(scopes)),
    )
    session.add(made)
    session.flush()
    auditing.record(session, actor, "make client", made.id, application=application.name, directory=directory.name)
    return made, secret


def clients_of(session: Session, application_id: str) -> list[SignInClient]:
    """An application's clients, the newest first."""
    query = select(SignInClient).where(SignInClient.application_id == application_id)
    return list(session.exec(query.order_by(col(SignInClient.made_at).desc())))


def is_secret_of(client: SignInClient, secret: str, pepper: bytes) -> bool:
    """Whether a secret is the client's, or the one before while that is good; in constant time."""
    shown = digest_of(secret, pepper)
    is_new = bool(client.secret_digest) and compare_digest(client.secret_digest, shown)
    is_old = old_secret_is_good(client) and compare_digest(client.old_secret_digest, shown)
    return is_new or is_old


def old_secret_is_good(client: SignInClient) -> bool:
    """Whether the secret before the present one is still taken."""
    return bool(client.old_secret_digest) and client.old_secret_until is not None and client.old_secret_until > now()


def replace_secret(session: Session, actor: Actor, client: SignInClient, keep: timedelta, pepper: bytes) -> str:
    """Another secret, which is never shown again; the present one stays good for as long as `keep` says.

    Raises `NotPossible` for a client without a secret, or one that is revoked.
    """
    if not client.confidential or client.revoked_at is not None:
        raise NotPossible("the client has no secret, or is revoked", "keep")
    secret = new_secret()
    client.old_secret_digest, client.old_secret_until = client.secret_digest, now() + keep
    client.secret_digest = digest_of(secret, pepper)
    session.add(client)
    session.flush()
    auditing.record(session, actor, "replace secret of client", client.id, hours=int(keep.total_seconds() // 3600))
    return secret


def end_old_secret(session: Session, actor: Actor, client: SignInClient) -> None:
    """The secret before is refused from now on."""
    if not old_secret_is_good(client):
        return
    client.old_secret_digest, client.old_secret_until = "", None
    session.add(client)
    session.flush()
    auditing.record(session, actor, "end old secret of client", client.id)


def revoke_client(session: Session, actor: Actor, client: SignInClient) -> None:
    """Revoke a client: nothing more is granted to it, and all that was ends."""
    if client.revoked_at is not None:
        return
    client.revoked_at = now()
    session.add(client)
    session.flush()
    granting.end_all_to(session, client.id, "its client was revoked")
    auditing.record(session, actor, "revoke client", client.id)
