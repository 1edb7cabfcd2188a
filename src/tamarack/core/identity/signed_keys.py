"""Keys that Tamarack signs for applications: a JWT (RFC 7519) under one of its own signing keys (RFC 9864, Ed25519)."""

from collections.abc import Sequence
from typing import Any

from joserfc import jwt
from joserfc.jwk import OKPKey

from tamarack.core.identity.jose import PRIVATE, VerifyingKey, check_claims, verify

ISSUER = "tamarack"
ALGORITHM = "Ed25519"
SKEW_S = 0
"""Both clocks are Tamarack's own."""


def make_signed_key(
    private: dict[str, Any], id: str, application: str, environment: str, issued_at: float, expires_at: float
) -> str:
    """A signed key. `id` is the credential's, by which it is revoked; times are seconds since the epoch."""
    claims = {
        "iss": ISSUER,
        "aud": environment,
        "sub": application,
        "jti": id,
        "iat": int(issued_at),
        "exp": int(expires_at),
    }
    key = OKPKey.import_key(private)
    return jwt.encode({"alg": ALGORITHM, "typ": "JWT", "kid": private["kid"]}, claims, key, algorithms=[ALGORITHM])


def check_signed_key(token: bytes, keys: Sequence[VerifyingKey], environment: str, now: float) -> tuple[float, bytes]:
    """Until when a signed key is good, and its credential's id. Raises `core.identity.jose.BadToken`."""
    claims = verify(token, keys, (ALGORITHM,), named=True)
    until = check_claims(claims, ISSUER, (environment,), SKEW_S, now)
    return until, str(claims.get("jti", "")).encode()


def new_signing_key(kid: str) -> dict[str, Any]:
    """A fresh private key as JWK, named `kid`."""
    return dict(OKPKey.generate_key("Ed25519", private=True).as_dict(private=True)) | {"kid": kid, "use": "sig"}


def public_part(private: dict[str, Any]) -> dict[str, Any]:
    """The public half of a signing key, as others may see it."""
    return {name: value for name, value in private.items() if name not in PRIVATE}
