"""Tickets: the console vouches, to one node and for seconds, for the caller of a call from the bench.

A ticket is sealed with a key that only the platform's programs hold (`core.identity.sealed_message`).
"""

from dataclasses import asdict, dataclass
from typing import Any

from tamarack.core.identity.sealed_message import read_message, write_message

LIVES_S = 30.0
MOST_BYTES = 6_000


@dataclass(frozen=True, slots=True)
class Ticket:
    """What is vouched for: trace the call, and take it to be made by an application (empty: by what it shows)."""

    environment: str
    node: str
    nonce: str
    by: str
    expires_at: float
    application: str = ""
    claims: dict[str, Any] | None = None


def write_ticket(ticket: Ticket, key: bytes) -> str:
    """A ticket as the value of a header field."""
    return write_message(asdict(ticket), key)


def read_ticket(value: bytes, key: bytes, environment: str, node: str, now: float) -> Ticket | None:
    """The ticket, or None where it is not one of ours, for another environment or node, or too old."""
    try:
        ticket = Ticket(**(read_message(value, key, MOST_BYTES) or {}))
    except TypeError:
        return None
    in_time = now < ticket.expires_at <= now + 2 * LIVES_S
    return ticket if in_time and (ticket.environment, ticket.node) == (environment, node) else None
