"""Tamarack's own signing keys: made, rotated, retired; and signed keys made with the newest."""

import json
import secrets
from typing import Any

from sqlmodel import Session, col, select

from tamarack.core.identity.sealing import NONCE_BYTES, seal, unseal
from tamarack.core.identity.signed_keys import new_signing_key, public_part
from tamarack.store.audit import log as auditing
from tamarack.store.audit.log import Actor
from tamarack.store.columns import new_id, now
from tamarack.store.feed import items as feeding
from tamarack.store.keys.signing_table import SigningKey


def _about(kid: str) -> str:
    return f"signing key {kid}"


def signing_keys(session: Session) -> list[SigningKey]:
    """Every signing key, the newest first."""
    return list(session.exec(select(SigningKey).order_by(col(SigningKey.made_at).desc())))


def rotate(session: Session, actor: Actor, key: bytes) -> SigningKey:
    """Make a new signing key. What earlier ones signed is accepted until they are retired."""
    kid = f"{now():%Y%m%d}-{new_id()[:8]}"
    private = new_signing_key(kid)
    sealed = seal(json.dumps(private).encode(), key, secrets.token_bytes(NONCE_BYTES), _about(kid))
    made = SigningKey(kid=kid, sealed=sealed, public=public_part(private), made_by=actor.name)
    session.add(made)
    session.flush()
    feeding.publish(session, "signing-key", kid, {"jwk": made.public})
    auditing.record(session, actor, "make signing key", kid)
    return made


def retire(session: Session, actor: Actor, made: SigningKey) -> None:
    """Retire a signing key: nodes refuse what it signed within a second."""
    if made.retired_at is not None:
        return
    made.retired_at = now()
    session.add(made)
    session.flush()
    feeding.publish(session, "signing-key", made.kid, None)
    auditing.record(session, actor, "retire signing key", made.kid)


def private_key(session: Session, actor: Actor, key: bytes) -> dict[str, Any]:
    """The private half of the key that signs now; one is made where there is none."""
    current = next((one for one in signing_keys(session) if one.retired_at is None), None)
    if current is None:
        current = rotate(session, actor, key)
    found: dict[str, Any] = json.loads(unseal(current.sealed, key, _about(current.kid)))
    return found
