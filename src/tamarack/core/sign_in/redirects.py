"""Redirect addresses: which may be registered, and when one that a request names is registered (RFC 9700, 2.1)."""

from __future__ import annotations

import re
from collections.abc import Sequence
from urllib.parse import urlsplit

LONGEST = 1_000
MOST = 20
_LOOPBACK = ("127.0.0.1", "[::1]")
_OWN = re.compile(r"[a-z][a-z0-9+-]*(\.[a-z0-9+-]+)+:/[^\s#]*")
"""A scheme of a program's own, named by a domain turned round (RFC 8252, 7.1): `example.tern:/back`."""


def redirect_problem(address: str) -> str:
    """Why an address cannot be registered; empty where it can."""
    if len(address) > LONGEST or not address.isascii() or not address.isprintable() or " " in address:
        return f"is no address; write up to {LONGEST} characters without blanks, others encoded as %20"
    if "#" in address:
        return "has a fragment (#), which cannot be; leave it out"
    if "*" in address:
        return "has a *; addresses are compared letter by letter, so write each one out"
    if _OWN.fullmatch(address):
        return ""
    try:
        parts = urlsplit(address)
        port = parts.port
    except ValueError:
        return "is no address; write it like https://app.example/back"
    if parts.scheme not in ("http", "https") or not parts.hostname or not parts.path.startswith("/"):
        return "is no address; write it whole, like https://app.example/back"
    if parts.username is not None or parts.password is not None:
        return "holds a name or a password before its host; leave them out"
    if any(part in (".", "..") for part in parts.path.split("/")):
        return "has a . or .. in its path; write where it leads"
    if parts.scheme == "http" and not _is_loopback(address):
        return "is not encrypted; use https, or http to 127.0.0.1 for a program on the user's own machine"
    del port
    return ""


def _is_loopback(address: str) -> bool:
    host = re.match(r"http://(127\.0\.0\.1|\[::1\])(:[0-9]{1,5})?/", address)
    return host is not None


def is_registered(address: str, registered: Sequence[str]) -> bool:
    """Whether a request's address is one that is registered: the same letters (RFC 9700, 2.1).

    The port of a loopback address may be any, for the program takes a free one when it starts (RFC 8252, 7.3).
    """
    if address in registered:
        return True
    return _is_loopback(address) and redirect_problem(address) == "" and _without_port(address) in {
        _without_port(one) for one in registered if _is_loopback(one)
    }  # fmt: skip


def _without_port(address: str) -> str:
    return re.sub(r"^(http://(?:127\.0\.0\.1|\[::1\])):[0-9]{1,5}/", r"\1/", address)


def origin_of(address: str) -> str:
    """Where an address leads, for a page's policy: its origin, or its scheme."""
    parts = urlsplit(address)
    return f"{parts.scheme}://{parts.netloc}" if parts.netloc else f"{parts.scheme}:"
