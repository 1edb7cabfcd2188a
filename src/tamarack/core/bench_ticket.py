"""Tickets: the console vouches, to one node and for seconds, for the caller of a call from the bench.

A ticket is JSON in base64url and its HMAC-SHA256 (RFC 2104) under a key that only the platform's programs hold.
"""

import hmac
from base64 import urlsafe_b64decode, urlsafe_b64encode
from dataclasses import asdict, dataclass
from hashlib import sha256
from typing import Any

import orjson

LIVES_S = 30.0
MOST_BYTES = 6_000


@dataclass(frozen=True, slots=True)
class Ticket:
    """What is vouched for: trace the call, and take it to be made by an application (empty: by what it shows)."""

    environment: str
    nonce: str
    by: str
    expires_at: float
    application: str = ""
    claims: dict[str, Any] | None = None


def write_ticket(ticket: Ticket, key: bytes) -> str:
    """A ticket as the value of a header field."""
    body = urlsafe_b64encode(orjson.dumps(asdict(ticket)))
    return (body + b"." + urlsafe_b64encode(_seal(body, key))).decode()


def read_ticket(value: bytes, key: bytes, environment: str, now: float) -> Ticket | None:
    """The ticket, or None where it is not one of ours, for another environment, or too old."""
    body, dot, seal = value.partition(b".")
    if not dot or len(value) > MOST_BYTES:
        return None
    try:
        if not hmac.compare_digest(urlsafe_b64decode(seal), _seal(body, key)):
            return None
        ticket = Ticket(**orjson.loads(urlsafe_b64decode(body)))
    except (ValueError, TypeError):
        return None
    in_time = now < ticket.expires_at <= now + 2 * LIVES_S
    return ticket if in_time and ticket.environment == environment else None


def _seal(body: bytes, key: bytes) -> bytes:
    return hmac.new(key, body, sha256).digest()
