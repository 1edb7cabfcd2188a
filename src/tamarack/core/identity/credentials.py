"""Credentials: their kinds, what they look like, and the keyed hash that nodes know them by."""

from hashlib import blake2b
from typing import Any, Literal, NamedTuple, get_args

CredentialKind = Literal["api-key", "client-secret", "signed-key", "outside-identity", "certificate"]
HashedKind = CredentialKind | Literal["sign-in"]
"""Credentials, and what the sign-in service hands out: secrets of its clients, codes, refresh tokens."""
"""An API key; a client id with its secret; a key that Tamarack signs; a name that an outside issuer's tokens give;
a certificate, or a name in certificates."""

KIND_TITLES: dict[str, str] = {
    "api-key": "API key",
    "client-secret": "Client id and secret",
    "signed-key": "Signed key",
    "outside-identity": "Outside identity",
    "certificate": "Certificate",
}
assert set(KIND_TITLES) == set(get_args(CredentialKind))

ALPHABET = "23456789abcdefghjkmnpqrstuvwxyz"
"""Characters of a key: none that is mistaken for another."""
PREFIX = "tmk_"
CLIENT_PREFIX = "tmc_"
SECRET_PREFIX = "tms_"  # noqa: S105 - how a secret begins
LENGTH = 36
"""Characters after the prefix: about 178 bits."""


class CredentialKeys(NamedTuple):
    """The installation's own keys: the pepper that hashes credentials, and the key that seals kept values."""

    pepper: bytes
    sealing: bytes


CredentialState = Literal["in force", "expired", "revoked"]


def make_key(random_bytes: bytes, prefix: str = PREFIX) -> str:
    """A key from at least `LENGTH` bytes of randomness. Bytes that would favour a character are skipped."""
    most = 256 - 256 % len(ALPHABET)
    chosen = [ALPHABET[byte % len(ALPHABET)] for byte in random_bytes if byte < most][:LENGTH]
    if len(chosen) < LENGTH:
        raise ValueError(f"{len(random_bytes)} random bytes made only {len(chosen)} of {LENGTH} characters")
    return prefix + "".join(chosen)


def keyed_hash(pepper: bytes, kind: HashedKind = "api-key") -> Any:
    """BLAKE2b (RFC 7693) with the pepper as its key; a domain for each kind, so that none passes for another.

    The pepper never leaves the platform.
    """
    person = b"" if kind == "api-key" else kind.encode()
    return blake2b(key=pepper, digest_size=24, person=person)


def digest(value: bytes, pepper: bytes, kind: HashedKind = "api-key") -> str:
    """The keyed hash of a credential."""
    keyed = keyed_hash(pepper, kind)
    keyed.update(value)
    return str(keyed.hexdigest())


def client_value(id: bytes, secret: bytes) -> bytes:
    """What is hashed of a client id and its secret: both, so that one does not work with the other's."""
    return id + b"\0" + secret


def outside_value(issuer: str, name: str, environment: str) -> bytes:
    """What is hashed of an outside identity: who says it, and the name; each environment has its own."""
    return b"\0".join((environment.encode(), issuer.encode(), name.encode()))


def certificate_value(name: str, environment: str) -> bytes:
    """What is hashed of a certificate: its fingerprint, or what it names; each environment has its own."""
    return b"\0".join((environment.encode(), name.encode()))


def hint(value: str) -> str:
    """What is shown of a key after it was made: its first and last characters."""
    return f"{value[:7]}…{value[-4:]}"


def state_of(expires_at: float | None, revoked: bool, now: float) -> CredentialState:
    """Whether a credential works at `now` (seconds since the epoch)."""
    if revoked:
        return "revoked"
    return "expired" if expires_at is not None and expires_at <= now else "in force"
