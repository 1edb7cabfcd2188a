"""The tokens of the sign-in service: access tokens, as JWT (RFC 9068) or opaque, and ID tokens; made and checked.

Tokens of a kind are told apart by the type in their header; other signed tokens of Tamarack have another issuer.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from typing import Any

from joserfc import jwt
from joserfc.jwk import ECKey, OKPKey, RSAKey, import_key

from tamarack.core.identity.jose import BadToken, VerifyingKey, check_claims, peek, verify

ALGORITHMS = ("ES256", "RS256", "Ed25519")
"""What tokens may be signed with (RFC 7518, 3.1; RFC 9864); the first where nobody chose."""
TYPE = "at+jwt"
OPAQUE = "at_"
"""How an opaque token begins, so that it is known for what it is wherever it turns up."""
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
    audience: Sequence[str]
    """The resources that it is for (RFC 8707)."""
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


def claims_of(token: AccessToken) -> dict[str, Any]:
    """What a token says (RFC 9068, 2.2)."""
    claims: dict[str, Any] = {
        "iss": token.issuer,
        "sub": token.subject,
        "aud": token.audience[0] if len(token.audience) == 1 else list(token.audience),
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
    return claims | {name: value for name, value in token.claims if name not in claims}


def make_access_token(token: AccessToken, private: dict[str, Any]) -> str:
    """The token as JWT, signed with a private key as JWK."""
    header = {"alg": private["alg"], "typ": TYPE, "kid": private["kid"]}
    return jwt.encode(header, claims_of(token), import_key(private), algorithms=[private["alg"]])


def directory_of(issuer: object) -> str:
    """The directory whose issuer this is: the last part of its address. Only the service's own keys sign for one."""
    return issuer.rpartition("/")[2] if isinstance(issuer, str) else ""


@dataclass(frozen=True, slots=True)
class Taken:
    """Which tokens are taken: of a directory, for an environment, or for one `resource` of it where that is known."""

    directory: str
    environment: str
    resource: str = ""
    id_tokens: bool = False
    """Whether a user's ID token stands for an access token."""


def check_signed(
    token: bytes, keys: Sequence[VerifyingKey], taken: Taken, now: float
) -> tuple[float, dict[str, Any]]:  # fmt: skip
    """Until when a signed token is good, and its claims. Raises `core.identity.jose.BadToken`."""
    header, unverified = peek(token)
    type_ = str(header.get("typ", "")).lower().removeprefix("application/")
    if type_ != TYPE and not (type_ == "jwt" and taken.id_tokens):
        raise BadToken("bad-token", f"is of the type {str(header.get('typ'))[:40]!r}, and no access token")
    _check_issuer(unverified.get("iss"), taken)
    claims = verify(token, keys, ALGORITHMS, named=True)
    if type_ != TYPE:
        return _check_id_token(claims, taken, now), claims
    return check_access_claims(claims, taken, now), claims


def check_access_claims(claims: dict[str, Any], taken: Taken, now: float) -> float:
    """Until when an access token is good that says this. Raises `core.identity.jose.BadToken`."""
    issuer = _check_issuer(claims.get("iss"), taken)
    audience = [audience_of(issuer, taken.environment), *([taken.resource] if taken.resource else ())]
    return check_claims(claims, issuer, audience, SKEW_S, now)


def _check_id_token(claims: dict[str, Any], taken: Taken, now: float) -> float:
    """Until when an ID token is good; it is for its client, and says of which environment that is."""
    until = check_claims(claims, str(claims.get("iss")), (), SKEW_S, now)
    if claims.get("environment") != taken.environment:
        made = str(claims.get("environment"))[:40]
        raise BadToken("wrong-audience", f"is of a client for {made!r}, expected {taken.environment!r}")
    return until


def _check_issuer(issuer: object, taken: Taken) -> str:
    if directory_of(issuer) != taken.directory:
        words = f"was made by {str(issuer)[:80]!r}, which is not the directory {taken.directory!r}"
        raise BadToken("wrong-issuer", words)
    return str(issuer)


RESERVED = frozenset(
    ("iss", "sub", "aud", "exp", "nbf", "iat", "jti", "client_id", "application", "grant", "scope", "auth_time",
     "groups", "nonce", "acr", "amr", "azp", "at_hash", "c_hash", "cnf", "act", "email", "email_verified", "name",
     "environment", "nickname", "locale", "zoneinfo")
)  # fmt: skip
"""Claims that staff cannot set: each says what the service itself knows."""


def new_token_key(kid: str, algorithm: str = ALGORITHMS[0]) -> dict[str, Any]:
    """A fresh private key as JWK, named `kid`, to sign with one of `ALGORITHMS`."""
    key: ECKey | RSAKey | OKPKey
    match algorithm:
        case "RS256":
            key = RSAKey.generate_key(2048, private=True)
        case "Ed25519":
            key = OKPKey.generate_key("Ed25519", private=True)
        case _:
            key = ECKey.generate_key("P-256", private=True)
    return dict(key.as_dict(private=True)) | {"kid": kid, "use": "sig", "alg": algorithm}
