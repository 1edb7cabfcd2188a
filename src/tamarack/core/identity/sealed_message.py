"""Messages between the platform's own programs: JSON in base64url, and its HMAC-SHA256 (RFC 2104) under their key."""

import hmac
from base64 import urlsafe_b64decode, urlsafe_b64encode
from hashlib import sha256
from typing import Any

import orjson


def write_message(fields: dict[str, Any], key: bytes, domain: bytes = b"") -> str:
    """A message as the value of a header field. `domain` keeps one kind from passing for another."""
    body = urlsafe_b64encode(orjson.dumps(fields))
    return (body + b"." + urlsafe_b64encode(_seal(domain + body, key))).decode()


def read_message(value: bytes, key: bytes, most_bytes: int, domain: bytes = b"") -> Any:
    """What a message says; None where it is not one of ours, or too long."""
    body, dot, seal = value.partition(b".")
    if not dot or len(value) > most_bytes:
        return None
    try:
        if not hmac.compare_digest(urlsafe_b64decode(seal), _seal(domain + body, key)):
            return None
        return orjson.loads(urlsafe_b64decode(body))
    except ValueError:
        return None


def _seal(body: bytes, key: bytes) -> bytes:
    return hmac.new(key, body, sha256).digest()
