"""Passwords at rest: Argon2id, with the library's recommended cost (RFC 9106)."""

from argon2 import PasswordHasher
from argon2.exceptions import Argon2Error, InvalidHashError

_HASHER = PasswordHasher(time_cost=2, memory_cost=19_456, parallelism=1)
_NOBODY = _HASHER.hash("no account has this password")


def hash_password(password: str) -> str:
    """What is kept of a password."""
    return _HASHER.hash(password)


def verify_password(kept: str | None, password: str) -> bool:
    """Whether a password is the one kept. Without an account the same time is spent."""
    try:
        return _HASHER.verify(kept or _NOBODY, password) and kept is not None
    except (Argon2Error, InvalidHashError):
        return False
