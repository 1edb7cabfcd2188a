"""Credentials: what a key looks like, and the keyed hash that nodes know it by."""

from hashlib import blake2b
from typing import Literal

ALPHABET = "23456789abcdefghjkmnpqrstuvwxyz"
"""Characters of a key: none that is mistaken for another."""
PREFIX = "tmk_"
LENGTH = 36
"""Characters after the prefix: about 178 bits."""

CredentialState = Literal["in force", "expired", "revoked"]


def make_key(random_bytes: bytes) -> str:
    """A key from at least `LENGTH` bytes of randomness. Bytes that would favour a character are skipped."""
    most = 256 - 256 % len(ALPHABET)
    chosen = [ALPHABET[byte % len(ALPHABET)] for byte in random_bytes if byte < most][:LENGTH]
    if len(chosen) < LENGTH:
        raise ValueError(f"{len(random_bytes)} random bytes made only {len(chosen)} of {LENGTH} characters")
    return PREFIX + "".join(chosen)


def digest(value: bytes, pepper: bytes) -> str:
    """The keyed hash of a credential (BLAKE2b, RFC 7693, keyed). The pepper never leaves the platform."""
    return blake2b(value, key=pepper, digest_size=24).hexdigest()


def hint(value: str) -> str:
    """What is shown of a key after it was made: its first and last characters."""
    return f"{value[:7]}…{value[-4:]}"


def state_of(expires_at: float | None, revoked: bool, now: float) -> CredentialState:
    """Whether a credential works at `now` (seconds since the epoch)."""
    if revoked:
        return "revoked"
    return "expired" if expires_at is not None and expires_at <= now else "in force"
