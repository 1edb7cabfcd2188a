"""Sealing: values encrypted at rest with a key that the database does not hold (AES-256-GCM, NIST SP 800-38D)."""

from base64 import b64decode, b64encode

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM

from tamarack.core.errors import CoreError

NONCE_BYTES = 12


class NotSealedHere(CoreError):
    """A sealed value that this key does not open: another installation's, or changed since it was sealed."""


def seal(value: bytes, key: bytes, nonce: bytes, about: str) -> str:
    """Encrypt a value. `about` says whose it is, so that one sealed value cannot be put in the place of another.

    The nonce is `NONCE_BYTES` random bytes, used once.
    """
    return b64encode(nonce + AESGCM(key).encrypt(nonce, value, about.encode())).decode()


def unseal(sealed: str, key: bytes, about: str) -> bytes:
    """The value that was sealed about the same thing. Raises `NotSealedHere`."""
    try:
        raw = b64decode(sealed, validate=True)
        return AESGCM(key).decrypt(raw[:NONCE_BYTES], raw[NONCE_BYTES:], about.encode())
    except (ValueError, InvalidTag) as error:
        raise NotSealedHere(f"the sealed value of {about} cannot be opened with this installation's key") from error
