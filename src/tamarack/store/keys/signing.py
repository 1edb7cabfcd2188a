"""Tamarack's own signing keys: made, rotated, retired; and signed keys made with the newest."""

import json
import secrets
from typing import Any, Literal

from sqlmodel import Session, col, select

from tamarack.core.identity.sealing import NONCE_BYTES, seal, unseal
from tamarack.core.identity.signed_keys import new_signing_key, public_part
from tamarack.core.sign_in.tokens import ALGORITHMS, new_token_key
from tamarack.store.audit import log as auditing
from tamarack.store.audit.log import Actor
from tamarack.store.columns import new_id, now
from tamarack.store.feed import items as feeding
from tamarack.store.keys.signing_table import SigningKey


def _about(kid: str) -> str:
    return f"signing key {kid}"


Purpose = Literal["signed-key", "token"]
_FED: dict[str, str] = {"signed-key": "signing-key", "token": "token-key"}
"""How nodes are told of the keys of each purpose."""


def signing_keys(session: Session, purpose: Purpose = "signed-key") -> list[SigningKey]:
    """Every signing key of a purpose, the newest first."""
    query = select(SigningKey).where(SigningKey.purpose == purpose)
    return list(session.exec(query.order_by(col(SigningKey.made_at).desc())))


def rotate(
    session: Session, actor: Actor, key: bytes, purpose: Purpose = "signed-key", algorithm: str = ALGORITHMS[0]
) -> SigningKey:
    """Make a new signing key; one for tokens signs by an algorithm of `core.sign_in.tokens`.

    What earlier ones signed is accepted until they are retired.
    """
    kid = f"{now():%Y%m%d}-{new_id()[:8]}"
    private = new_signing_key(kid) if purpose == "signed-key" else new_token_key(kid, algorithm)
    sealed = seal(json.dumps(private).encode(), key, secrets.token_bytes(NONCE_BYTES), _about(kid))
    made = SigningKey(kid=kid, sealed=sealed, public=public_part(private), purpose=purpose, made_by=actor.name)
    session.add(made)
    session.flush()
    feeding.publish(session, _FED[purpose], kid, {"jwk": made.public})
    auditing.record(session, actor, "make signing key", kid, purpose=purpose)
    return made


def retire(session: Session, actor: Actor, made: SigningKey) -> None:
    """Retire a signing key: nodes refuse what it signed within a second."""
    if made.retired_at is not None:
        return
    made.retired_at = now()
    session.add(made)
    session.flush()
    feeding.publish(session, _FED[made.purpose], made.kid, None)
    auditing.record(session, actor, "retire signing key", made.kid)


def private_key(session: Session, actor: Actor, key: bytes, purpose: Purpose = "signed-key") -> dict[str, Any]:
    """The private half of the key that signs now; one is made where there is none."""
    current = next((one for one in signing_keys(session, purpose) if one.retired_at is None), None)
    if current is None:
        current = rotate(session, actor, key, purpose)
    found: dict[str, Any] = json.loads(unseal(current.sealed, key, _about(current.kid)))
    return found
