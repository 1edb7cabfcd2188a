"""One-time codes by time (TOTP, RFC 6238): six digits, another each half minute, by HMAC-SHA-1 as every device does."""

from __future__ import annotations

import base64
from hmac import compare_digest
from urllib.parse import quote, urlencode

from cryptography.hazmat.primitives.hashes import SHA1
from cryptography.hazmat.primitives.twofactor.hotp import HOTP

PERIOD_S = 30
DIGITS = 6
DRIFT = 1
"""Steps before and after the present whose codes are good: clocks differ, and people type (RFC 6238, 5.2)."""
SECRET_BYTES = 20


def step_at(now: float) -> int:
    """The time step of a moment in seconds since the epoch."""
    return int(now // PERIOD_S)


def code_at(secret: bytes, step: int) -> str:
    """The code of a time step."""
    return HOTP(secret, DIGITS, SHA1()).generate(step).decode()  # noqa: S303 - what the RFC's default is


def matching_step(secret: bytes, typed: str, now: float, newest: int = 0) -> int | None:
    """The step whose code was typed, of those that are good now and newer than the `newest` one used; or None."""
    plain = "".join(typed[:20].split())
    found = None
    for step in range(step_at(now) - DRIFT, step_at(now) + DRIFT + 1):
        if compare_digest(code_at(secret, step).encode(), plain.encode("utf-8", "replace")) and step > newest:
            found = step
    return found


def in_base32(secret: bytes) -> str:
    """A secret as people type it into a device: groups of four."""
    text = base64.b32encode(secret).decode()
    return " ".join(text[place : place + 4] for place in range(0, len(text), 4))


def address_for(secret: bytes, issuer: str, account: str) -> str:
    """The secret as the address that devices read from a picture (`otpauth:`)."""
    label = f"{quote(issuer, safe='')}:{quote(account, safe='@')}"
    said = {"secret": base64.b32encode(secret).decode(), "issuer": issuer, "digits": DIGITS, "period": PERIOD_S}
    return f"otpauth://totp/{label}?{urlencode(said, quote_via=quote)}"
