"""Clients of the sign-in service: made for an application, their secret replaced, revoked."""

from __future__ import annotations

import secrets
from collections.abc import Sequence
from datetime import timedelta
from hmac import compare_digest
from typing import Any, NamedTuple

from sqlmodel import Session, col, func, or_, select

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
MOST_MINUTES = 1_440


def digest_of(value: str, pepper: bytes) -> str:
    """What is kept of a secret, code or token: a keyed hash."""
    return digest(value.encode("utf-8", "replace"), pepper, "sign-in")


def new_secret() -> str:
    """A client's secret, code or token: 256 random bits."""
    return secrets.token_urlsafe(32)


class ClientSpec(NamedTuple):
    """What a client is and may do."""

    title: str
    grants: Sequence[str]
    redirects: Sequence[str] = ()
    scopes: Sequence[str] = ()
    confidential: bool = False
    after_sign_out: Sequence[str] = ()
    access_minutes: int = 0


def _checked(spec: ClientSpec) -> ClientSpec:
    """A client's facts as they are kept. Raises `NotPossible`."""
    title = a_line(spec.title, 120, "title", "The title")
    chosen = [grant for grant in GRANTS if grant in spec.grants]
    if not set(chosen) & {CODE, CLIENT, DEVICE}:
        raise NotPossible("choose what the client does: sign users in, call for itself, or both", "grants")
    if CLIENT in chosen and not spec.confidential:
        raise NotPossible("only a client that keeps a secret can call for itself", "confidential")
    if CODE in chosen and not spec.redirects:
        raise NotPossible("write where users are sent back to, like https://app.example/back", "redirects")
    for field, addresses in (("redirects", spec.redirects), ("after_sign_out", spec.after_sign_out)):
        if len(addresses) > MOST:
            raise NotPossible(f"at most {MOST} addresses fit", field)
        for address in addresses:
            if wrong := redirect_problem(address):
                raise NotPossible(f"{address[:80]!r} {wrong}", field)
    if not 0 <= spec.access_minutes <= MOST_MINUTES:
        raise NotPossible(f"write minutes from 1 to {MOST_MINUTES:,}, or 0 for what the plan says", "access_minutes")
    return ClientSpec(
        title,
        chosen,
        list(dict.fromkeys(spec.redirects)),
        list(dict.fromkeys(spec.scopes)),
        spec.confidential,
        list(dict.fromkeys(spec.after_sign_out)),
        spec.access_minutes,
    )


def spec_of(client: SignInClient) -> ClientSpec:
    """What a client is and may do now."""
    return ClientSpec(client.title, client.grants, client.redirects, client.scopes, client.confidential,
                      client.after_sign_out, client.access_minutes)  # fmt: skip


def _put(client: SignInClient, spec: ClientSpec) -> None:
    client.title, client.access_minutes = spec.title, spec.access_minutes
    client.grants, client.scopes = list(spec.grants), list(spec.scopes)
    client.redirects, client.after_sign_out = list(spec.redirects), list(spec.after_sign_out)


def make_client(
    session: Session,
    actor: Actor,
    application: Application,
    directory: Directory,
    environment: str,
    spec: ClientSpec,
    pepper: bytes,
    id: str = "",
) -> tuple[SignInClient, str]:
    """A client, and its secret (empty for a public one), which is never shown again. Raises `NotPossible`.

    `id` is given where it comes from another installation.
    """
    spec = _checked(spec)
    secret = new_secret() if spec.confidential else ""
    made = SignInClient(
        id=id or f"{application.name[:40]}-{secrets.token_hex(6)}",
        application_id=application.id,
        directory=directory.name,
        environment=environment,
        title=spec.title,
        confidential=spec.confidential,
        secret_digest=digest_of(secret, pepper) if secret else "",
    )
    _put(made, spec)
    session.add(made)
    session.flush()
    auditing.record(session, actor, "make client", made.id, application=application.name, directory=directory.name)
    return made, secret


def change_client(session: Session, actor: Actor, client: SignInClient, spec: ClientSpec) -> None:
    """Change what a client may do: from the next request on; tokens that it has stay as they are.

    Whether it keeps a secret stays. Raises `NotPossible`, also for one that is revoked.
    """
    if client.revoked_at is not None:
        raise NotPossible("the client is revoked; make another", "title")
    before = spec_of(client)
    spec = _checked(spec._replace(confidential=client.confidential))
    _put(client, spec)
    session.add(client)
    session.flush()
    changed = [name for name in spec._fields if _plain(getattr(before, name)) != _plain(getattr(spec, name))]
    if changed:
        auditing.record(session, actor, "change client", client.id, changed=", ".join(changed))


def _plain(value: Any) -> Any:
    """A list however it came, so that two compare."""
    return list(value) if isinstance(value, list | tuple) else value


def clients_of(session: Session, application_id: str) -> list[SignInClient]:
    """An application's clients, the newest first."""
    query = select(SignInClient).where(SignInClient.application_id == application_id)
    return list(session.exec(query.order_by(col(SignInClient.made_at).desc())))


def find_clients(
    session: Session, directory: str, text: str, most: int, skip: int = 0
) -> tuple[list[tuple[SignInClient, Application]], int]:
    """The clients of a directory whose title or id, or whose application's, holds a text; and how many in all."""
    query = select(SignInClient, Application).where(
        SignInClient.application_id == Application.id, SignInClient.directory == directory
    )
    if text:
        texts = (SignInClient.title, SignInClient.id, Application.title)
        found = [col(one).icontains(text, autoescape=True) for one in texts]
        query = query.where(or_(*found))
    total = session.exec(select(func.count()).select_from(query.subquery())).one()
    order = (col(SignInClient.revoked_at).is_not(None), SignInClient.title, SignInClient.id)
    return [
        (one, application) for one, application in session.exec(query.order_by(*order).offset(skip).limit(most))
    ], total


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
