"""Secrets of the service: what is hashed with, and what signs."""

from __future__ import annotations

from typing import Any

from flask import current_app, g

from tamarack.store.keys import signing
from tamarack.store.sign_in.clients import digest_of
from tamarack.web.application import actor, db, settings_of


def pepper() -> bytes:
    """What secrets, codes and tokens are hashed with."""
    return settings_of(current_app).keys.raw("pepper")


def digest(value: str) -> str:
    """What is kept of a secret, code or token."""
    return digest_of(value, pepper())


def signing_key() -> dict[str, Any]:
    """The private key that signs the tokens of this request, as JWK."""
    if "signing_key" not in g:
        key = settings_of(current_app).keys.raw("secrets")
        g.signing_key = signing.private_key(db(), actor("sign-in service"), key, "token")
    found: dict[str, Any] = g.signing_key
    return found


def public_keys() -> list[dict[str, Any]]:
    """The public keys that tokens are verified with, the newest first (RFC 7517)."""
    known = [one for one in signing.signing_keys(db(), "token") if one.retired_at is None]
    return [one.public | {"kid": one.kid, "use": "sig", "alg": one.algorithm} for one in known]
