"""The content security policy of pages whose forms may lead on to an application (CSP 3, `form-action`).

Browsers hold every redirect after a form against it: whoever signs in and has agreed before is sent straight back.
"""

from __future__ import annotations

from collections.abc import Sequence
from urllib.parse import parse_qs, urlsplit

from flask import Response, after_this_request

from tamarack.core.sign_in.redirects import origin_of
from tamarack.store.sign_in.tables import Directory, SignInClient
from tamarack.web.application import CONTENT_POLICY, FORMS_LEAD, db


def leads_to(origins: Sequence[str]) -> None:
    """Let the forms of this page lead on to some origins."""
    policy = CONTENT_POLICY.replace(FORMS_LEAD, " ".join((FORMS_LEAD, *origins)))

    @after_this_request
    def set_policy(response: Response) -> Response:
        response.headers["Content-Security-Policy"] = policy
        return response


def origins_after(directory: Directory, target: str) -> list[str]:
    """Where a page of the directory may send its user: back to the client that it is for, if it is for one."""
    parts = urlsplit(target)
    named = parse_qs(parts.query).get("client_id", [""])[0] if parts.path == f"/{directory.name}/authorize" else ""
    client = db().get(SignInClient, named) if named and named.isprintable() else None
    if client is None or client.directory != directory.name or client.revoked_at is not None:
        return []
    return sorted({_any_port(origin_of(one)) for one in client.redirects})


def _any_port(origin: str) -> str:
    """A program on the user's own machine listens on whatever port is free (RFC 8252, 7.3)."""
    loopback = ("http://127.0.0.1", "http://[::1]")
    return next((f"{one}:*" for one in loopback if origin == one or origin.startswith(f"{one}:")), origin)
