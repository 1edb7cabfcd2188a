"""The tokens of the sign-in service: access tokens as JWT (RFC 9068), made and checked; keys on P-256 (ES256).

Other signed tokens of Tamarack have another issuer and another type of key, so none passes for another.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from typing import Any

from joserfc import jwt
from joserfc.jwk import ECKey

from tamarack.core.identity.jose import BadToken, VerifyingKey, check_claims, peek, verify

ALGORITHM = "ES256"
TYPE = "at+jwt"
SKEW_S = 5
"""Seconds by which the clocks of service and nodes may differ."""


@dataclass(frozen=True, slots=True)
class AccessToken:
    """What an access token says. Times are seconds since the epoch."""

    issuer: str
    subject: str
    """The end user's id, or the client's where it calls for itself."""
    client: str
    application: str
    environment: str
    grant: str
    """The grant that it came from: when that ends, so does it."""
    scopes: Sequence[str]
    issued_at: int
    expires_at: int
    id: str
    user: bool = False
    """Whether the subject is an end user."""
    auth_time: int = 0
    groups: Collection[str] = ()
    claims: tuple[tuple[str, Any], ...] = ()
    """What staff set for the user."""


def audience_of(issuer: str, environment: str) -> str:
    """Whom a token of an issuer is for: the APIs of one environment."""
    return f"{issuer}/apis/{environment}"


def make_access_token(token: AccessToken, private: dict[str, Any]) -> str:
    """The token, signed with a private key as JWK."""
    claims: dict[str, Any] = dict(token.claims)
    claims |= {
        "iss": token.issuer,
        "sub": token.subject,
        "aud": audience_of(token.issuer, token.environment),
        "client_id": token.client,
        "application": token.application,
        "grant": token.grant,
        "scope": " ".join(token.scopes),
        "iat": token.issued_at,
        "exp": token.expires_at,
        "jti": token.id,
    }
    if token.user:
        claims |= {"auth_time": token.auth_time, "groups": sorted(token.groups)}
    header = {"alg": ALGORITHM, "typ": TYPE, "kid": private["kid"]}
    return jwt.encode(header, claims, ECKey.import_key(private), algorithms=[ALGORITHM])


def directory_of(issuer: object) -> str:
    """The directory whose issuer this is: the last part of its address. Only the service's own keys sign for one."""
    return issuer.rpartition("/")[2] if isinstance(issuer, str) else ""


def check_access_token(
    token: bytes, keys: Sequence[VerifyingKey], directory: str, environment: str, now: float
) -> tuple[float, dict[str, Any]]:
    """Until when a token of a directory is good, and its claims. Raises `core.identity.jose.BadToken`."""
    header, unverified = peek(token)
    if str(header.get("typ", "")).lower().removeprefix("application/") != TYPE:
        raise BadToken("bad-token", f"is of the type {str(header.get('typ'))[:40]!r}, and no access token")
    issuer = unverified.get("iss")
    if directory_of(issuer) != directory:
        raise BadToken("wrong-issuer", f"was made by {str(issuer)[:80]!r}, which is not the directory {directory!r}")
    claims = verify(token, keys, (ALGORITHM,), named=True)
    until = check_claims(claims, str(issuer), (audience_of(str(issuer), environment),), SKEW_S, now)
    return until, claims


RESERVED = frozenset(
    ("iss", "sub", "aud", "exp", "nbf", "iat", "jti", "client_id", "application", "grant", "scope", "auth_time",
     "groups", "nonce", "acr", "amr", "azp", "at_hash", "c_hash", "cnf", "act", "email", "email_verified", "name")
)  # fmt: skip
"""Claims that staff cannot set: each says what the service itself knows."""


def new_token_key(kid: str) -> dict[str, Any]:
    """A fresh private key as JWK, named `kid`."""
    made = dict(ECKey.generate_key("P-256", private=True).as_dict(private=True))
    return made | {"kid": kid, "use": "sig", "alg": ALGORITHM}
