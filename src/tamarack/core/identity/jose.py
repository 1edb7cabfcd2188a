"""Signed tokens: JWT (RFC 7519) in JWS compact form (RFC 7515), with keys as PEM or JWK (RFC 7517).

The algorithm is never taken from the token alone: a policy lists what it accepts, each algorithm takes one
type of key only, and `none` is not in the table (RFC 8725, section 3.1 and 3.2).
"""

import re
import warnings
from base64 import urlsafe_b64decode
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Literal, get_args

import orjson
from joserfc import jws
from joserfc.errors import JoseError, SecurityWarning
from joserfc.jwk import ECKey, OctKey, OKPKey, RSAKey, import_key

from tamarack.core.errors import CoreError

Algorithm = Literal[
    "HS256", "HS384", "HS512",
    "RS256", "RS384", "RS512",
    "PS256", "PS384", "PS512",
    "ES256", "ES384", "ES512",
    "EdDSA", "Ed25519",
]  # fmt: skip
ALGORITHMS: tuple[str, ...] = get_args(Algorithm)
MOST_BYTES = 8_192
"""A longer token is not read."""
MOST_KEYS = 32
"""Keys taken from one key set."""
LEAST_RSA_BITS = 2048
LEAST_SECRET_BYTES = {"HS256": 32, "HS384": 48, "HS512": 64}
"""A secret is at least as long as the hash (RFC 7518, section 3.2)."""

_NEEDS: dict[str, tuple[str, str]] = {
    **dict.fromkeys(("HS256", "HS384", "HS512"), ("oct", "")),
    **dict.fromkeys(("RS256", "RS384", "RS512", "PS256", "PS384", "PS512"), ("RSA", "")),
    "ES256": ("EC", "P-256"),
    "ES384": ("EC", "P-384"),
    "ES512": ("EC", "P-521"),
    "EdDSA": ("OKP", "Ed25519"),
    "Ed25519": ("OKP", "Ed25519"),
}
"""The type of key, and the curve, that each algorithm takes."""

AnyKey = RSAKey | ECKey | OKPKey | OctKey
_PART = re.compile(rb"^[A-Za-z0-9_-]+$")


class BadToken(CoreError):
    """A token that is not accepted. `reason` is a code of `core.carrying.refusals`; the text is for staff."""

    def __init__(self, reason: str, note: str) -> None:
        super().__init__(note)
        self.reason = reason


class UnknownKey(BadToken):
    """The token names a key that the key set does not hold (yet)."""

    def __init__(self, kid: str) -> None:
        super().__init__("bad-token", f"no key {kid!r} in the key set")
        self.kid = kid


@dataclass(frozen=True, slots=True)
class VerifyingKey:
    """A key to verify with. `kid` is empty where the key has no name; `alg` where any that fits may be used."""

    key: AnyKey
    type: str
    curve: str
    kid: str = ""
    alg: str = ""
    size: int = 0
    """Of a shared secret: its bytes."""

    def fits(self, algorithm: str) -> bool:
        type_, curve = _NEEDS[algorithm]
        if self.type != type_ or self.size < LEAST_SECRET_BYTES.get(algorithm, 0):
            return False
        return (not curve or self.curve == curve) and self.alg in ("", algorithm)


def _imported(value: Any, type_: str | None = None) -> Any:
    """`import_key` without its warnings: what they warn of, like a short key, is refused by `_entry`."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", SecurityWarning)
        return import_key(value) if type_ is None else import_key(value, type_)  # type: ignore[call-overload]


def _entry(key: Any, data: Mapping[str, Any]) -> VerifyingKey:
    if isinstance(key, RSAKey) and key.public_key.key_size < LEAST_RSA_BITS:
        raise ValueError(f"an RSA key of {key.public_key.key_size} bits is too short; at least {LEAST_RSA_BITS}")
    return VerifyingKey(
        key, key.key_type, str(key.dict_value.get("crv", "")), str(data.get("kid") or ""), str(data.get("alg") or "")
    )


def keys_of_set(data: Any) -> tuple[VerifyingKey, ...]:
    """The keys of a JWK Set that can verify signatures; others are left out. Raises ValueError, in words.

    Shared secrets are left out too: a published set must never lend one (key confusion).
    """
    listed = data.get("keys") if isinstance(data, dict) else None
    if not isinstance(listed, list):
        raise ValueError("is not a JWK Set: an object with a list under 'keys' is needed")
    found = []
    for one in listed[:MOST_KEYS]:
        if not isinstance(one, dict) or one.get("use", "sig") != "sig" or one.get("kty") not in ("RSA", "EC", "OKP"):
            continue
        public = {name: value for name, value in one.items() if name not in PRIVATE}
        try:
            found.append(_entry(_imported(public), public))
        except (ValueError, JoseError, KeyError, TypeError):
            continue
    return tuple(found)


PRIVATE = frozenset(("d", "p", "q", "dp", "dq", "qi", "oth", "k", "key_ops"))


def key_of_pem(text: str) -> VerifyingKey:
    """A public key from PEM. Raises ValueError, in words; a private key is refused, for it has no place here."""
    if "PRIVATE KEY" in text:
        raise ValueError("this is a private key; give the public key only (BEGIN PUBLIC KEY)")
    if "-----BEGIN" not in text:
        raise ValueError("is not PEM; it starts with -----BEGIN PUBLIC KEY-----")
    for type_ in ("RSA", "EC", "OKP"):
        try:
            key = _imported(text.strip() + "\n", type_)
        except (ValueError, JoseError, TypeError):
            continue
        return _entry(key, {})
    raise ValueError("holds no public key that can be read (RSA, EC or Ed25519)")


def key_of_secret(value: bytes) -> VerifyingKey:
    """A shared secret as a key for HMAC."""
    return VerifyingKey(OctKey.import_key(value), "oct", "", size=len(value))


def _decoded(part: bytes, what: str) -> dict[str, Any]:
    try:
        found = orjson.loads(urlsafe_b64decode(part + b"=" * (-len(part) % 4)))
    except ValueError as error:
        raise BadToken("bad-token", f"the token's {what} is not JSON") from error
    if not isinstance(found, dict):
        raise BadToken("bad-token", f"the token's {what} is not an object")
    return found


def _parts(token: bytes) -> list[bytes]:
    if len(token) > MOST_BYTES:
        raise BadToken("bad-token", f"the token has {len(token)} bytes, more than {MOST_BYTES}")
    parts = token.split(b".")
    if len(parts) != 3 or not all(_PART.match(part) for part in parts):
        raise BadToken("bad-token", "the token is not three parts in base64url with dots between")
    return parts


def peek(token: bytes) -> tuple[dict[str, Any], dict[str, Any]]:
    """A token's header and claims, not verified: only to find out whose it may be. Raises `BadToken`."""
    parts = _parts(token)
    return _decoded(parts[0], "header"), _decoded(parts[1], "body")


def verify(token: bytes, keys: Sequence[VerifyingKey], algorithms: Iterable[str], named: bool) -> dict[str, Any]:
    """The claims of a token whose signature one of the keys made. Raises `BadToken`; see `signed_payload`."""
    return _claims(signed_payload(token, keys, algorithms, named))


def signed_payload(token: bytes, keys: Sequence[VerifyingKey], algorithms: Iterable[str], named: bool) -> bytes:
    """The payload of a JWS whose signature one of the keys made (RFC 7515, section 5.2). Raises `BadToken`.

    `algorithms` are those that are accepted. `named`: the keys come from a set whose keys have names, so a
    key id in the token chooses; raises `UnknownKey` where the set does not hold it.
    """
    header = _decoded(_parts(token)[0], "header")
    algorithm = header.get("alg")
    if not isinstance(algorithm, str) or algorithm not in algorithms or algorithm not in _NEEDS:
        raise BadToken("bad-token", f"the algorithm {algorithm!r} is not one that the policy lists")
    if "crit" in header:
        raise BadToken("bad-token", "the token's header demands extensions that are not known here (crit)")
    kid = header.get("kid")
    candidates: Sequence[VerifyingKey] = keys
    if named and isinstance(kid, str):
        candidates = [key for key in keys if key.kid == kid]
        if not candidates:
            raise UnknownKey(kid)
    candidates = [key for key in candidates if key.fits(algorithm)]
    if not candidates:
        least = LEAST_SECRET_BYTES.get(algorithm)
        words = f": it asks for a secret of at least {least} bytes" if least else ""
        raise BadToken("bad-token", f"no key here fits {algorithm}{words}")
    for key in candidates:
        try:
            with warnings.catch_warnings():  # EdDSA is the older name of Ed25519 (RFC 9864); issuers still use it
                warnings.simplefilter("ignore", SecurityWarning)
                verified = jws.deserialize_compact(token, key.key, algorithms=[algorithm])
        except (JoseError, ValueError):
            continue
        return bytes(verified.payload)
    raise BadToken("bad-token", "the signature is not right")


def _claims(payload: bytes) -> dict[str, Any]:
    try:
        claims = orjson.loads(payload)
    except ValueError as error:
        raise BadToken("bad-token", "the token's body is not JSON") from error
    if not isinstance(claims, dict):
        raise BadToken("bad-token", "the token's body is not an object")
    return claims


def _moment(claims: Mapping[str, Any], name: str) -> float | None:
    value = claims.get(name)
    if value is None:
        return None
    if isinstance(value, bool) or not isinstance(value, int | float):
        raise BadToken("bad-token", f"{name} is {value!r}, not a number of seconds")
    return float(value)


def check_claims(claims: Mapping[str, Any], issuer: str, audience: Sequence[str], skew_s: float, now: float) -> float:
    """Check who made a token, for whom and for when (RFC 7519, section 4.1). Raises `BadToken`.

    Returns until when it is good, with the skew, in seconds since the epoch.
    """
    if issuer and claims.get("iss") != issuer:
        raise BadToken("wrong-issuer", f"issued by {claims.get('iss')!r}, expected {issuer!r}")
    if audience:
        named = claims.get("aud")
        held = named if isinstance(named, list) else [named]
        if not any(one in audience for one in held if isinstance(one, str)):
            raise BadToken("wrong-audience", f"made for {named!r}, expected {' or '.join(audience)}")
    expires = _moment(claims, "exp")
    if expires is None:
        raise BadToken("bad-token", "the token never expires (no exp); only tokens that do are accepted")
    if expires + skew_s <= now:
        raise BadToken("expired-credential", f"expired at {expires:.0f}, it is {now:.0f}")
    for name in ("nbf", "iat"):
        moment = _moment(claims, name)
        if moment is not None and moment - skew_s > now:
            raise BadToken("early-token", f"{name} is {moment:.0f}, it is {now:.0f}")
    return expires + skew_s
