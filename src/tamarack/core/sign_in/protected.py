"""APIs as protected resources: what each is called (RFC 8707), and what it says of itself (RFC 9728)."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from typing import Any
from urllib.parse import urlsplit

from tamarack.core.errors import CoreError

WELL_KNOWN = "/.well-known/oauth-protected-resource"


class BadTarget(CoreError):
    """A resource that tokens are not made for; in words."""


def resource_of(gateway: str, base_path: str) -> str:
    """What the versions under a base path are called as a resource; empty where the gateway's address is not known."""
    return f"{gateway}{base_path}" if gateway else ""


def metadata_address(resource: str) -> str:
    """Where a resource describes itself: the well-known path is put before its own (RFC 9728, 3.1)."""
    parts = urlsplit(resource)
    return f"{parts.scheme}://{parts.netloc}{WELL_KNOWN}{parts.path}"


def described(resource: str, title: str, issuers: Collection[str], scopes: Collection[str]) -> dict[str, Any]:
    """What a resource says of itself (RFC 9728, 2)."""
    said: dict[str, Any] = {
        "resource": resource,
        "resource_name": title,
        "authorization_servers": list(issuers),
        "bearer_methods_supported": ["header"],
    }
    return said | {"scopes_supported": sorted(scopes)} if scopes else said


def chosen(asked: Collection[str], known: Mapping[str, object], held: Collection[str] = ()) -> list[str]:
    """The resources that a token will be for, of those that a request names; what is `held` where it names none.

    Raises `BadTarget` for one that is not known, or that is not among those held (RFC 8707, 2).
    """
    for one in asked:
        if one not in known:
            raise BadTarget(f"{one[:200]!r} is no API here; name one by its address, like {next(iter(known), '')}")
        if held and one not in held:
            raise BadTarget(f"{one[:200]!r} was not granted; name one of those that were")
    return list(dict.fromkeys(asked)) or list(held)
