"""Authorization requests: read from the address, or sent ahead by the client (RFC 9126) and named there."""

from __future__ import annotations

import secrets
from datetime import timedelta
from typing import Any

from authlib.oauth2.rfc6749 import InvalidRequestError, InvalidScopeError, OAuth2Error, UnauthorizedClientError
from flask import g, request

from tamarack.core.sign_in.protected import BadTarget, chosen
from tamarack.core.sign_in.scopes import is_scope
from tamarack.sign_in.protocol.client import Client
from tamarack.sign_in.protocol.keys import digest
from tamarack.sign_in.protocol.running import audience
from tamarack.sign_in.protocol.tokens import InvalidTargetError
from tamarack.store.columns import now
from tamarack.store.people.attempts import TooManyAttempts, begin_attempt
from tamarack.store.sign_in.clients import CODE
from tamarack.store.sign_in.tables import PushedRequest
from tamarack.web.application import db
from tamarack.web.numbers import whole

LIVES = timedelta(minutes=10)
"""Long enough to sign in meanwhile; it is good for one code."""
MOST_PUSHED = 200
"""Requests of one public client from one address within a quarter of an hour: anyone may send them in its name."""
_NAME = "urn:ietf:params:oauth:request_uri:"
_SHOWS_ITSELF = frozenset(("client_secret", "client_assertion", "client_assertion_type"))


class _RequestNotSupported(OAuth2Error):
    error = "request_not_supported"
    description = "Requests as JWT are not taken; send the parameters, or push them ahead."


class _Busy(OAuth2Error):
    error = "temporarily_unavailable"
    description = "Too many requests came from this address. Try again in a quarter of an hour."
    status_code = 429


def read_request() -> PushedRequest | None:
    """Read what a user's browser brings: `g.asked`, and the resources it names, `g.resources`.

    Returns the pushed request that it names, if it does. Raises Authlib's errors.
    """
    values = request.args
    twice = next((name for name in values if name != "resource" and len(values.getlist(name)) > 1), None)
    if twice is not None:
        raise InvalidRequestError(f"The parameter {twice[:40]} is sent twice.")
    if "request" in values:
        raise _RequestNotSupported
    if "request_uri" not in values:
        g.asked, g.resources = values.to_dict(), values.getlist("resource")
        return None
    found = db().get(PushedRequest, digest(values["request_uri"]))
    if found is None or found.expires_at <= now() or found.client_id != values.get("client_id"):
        raise InvalidRequestError("This request is over, or was answered already. Begin anew in the application.")
    g.asked, g.resources = dict(found.asked["parameters"]), list(found.asked["resources"])
    return found


def check_request(client: Client, back: str | None) -> None:
    """Refuse what Authlib lets pass: scopes and ages that are none, and resources that tokens are not made for."""
    if not is_scope(g.asked.get("scope", "")):
        raise InvalidScopeError("The scope holds characters that no scope has.", redirect_uri=back)
    if g.asked.get("max_age") and whole(g.asked["max_age"]) is None:
        raise InvalidRequestError("max_age is no number of seconds.", redirect_uri=back)
    try:
        g.resources = chosen(g.resources, audience(client.kept.environment).resources)
    except BadTarget as error:
        raise InvalidTargetError(str(error), redirect_uri=back) from None


class Pushed:
    """A client sends an authorization request ahead, so that no browser sees it (RFC 9126, 2)."""

    ENDPOINT_NAME = "pushed_authorization_request"

    def __init__(self, server: Any) -> None:
        self.server = server

    def create_endpoint_request(self, request: Any) -> Any:
        """See Authlib's endpoints."""
        return self.server.create_oauth2_request(request)

    def __call__(self, _: Any) -> tuple[int, dict[str, Any], list[tuple[str, str]]]:
        form = request.form
        made = self.create_endpoint_request(None)
        client: Client = self.server.authenticate_client(
            made, ["client_secret_basic", "client_secret_post", "none"], self.ENDPOINT_NAME
        )
        if CODE not in client.kept.grants:
            raise UnauthorizedClientError("The client does not sign users in.")
        if "request_uri" in form or "request" in form:
            raise InvalidRequestError("Push the parameters themselves.")
        if not client.kept.confidential:
            try:
                begin_attempt(db(), "pushed requests", client.id, request.remote_addr or "", MOST_PUSHED)
            except TooManyAttempts:
                raise _Busy from None
        asked = {name: value for name, value in form.items() if name not in _SHOWS_ITSELF and name != "resource"}
        g.asked, g.resources = asked | {"client_id": client.id}, form.getlist("resource")
        try:
            self.server.get_authorization_grant(self.create_endpoint_request(None)).validate_authorization_request()
            check_request(client, None)
        except OAuth2Error as error:
            error.redirect_uri = None  # told to the client itself, which asks
            raise
        name = _NAME + secrets.token_urlsafe(32)
        kept = {"parameters": g.asked, "resources": g.resources}
        db().add(PushedRequest(digest=digest(name), client_id=client.id, asked=kept, expires_at=now() + LIVES))
        db().flush()
        return (
            201,
            {"request_uri": name, "expires_in": int(LIVES.total_seconds())},
            [("Content-Type", "application/json")],
        )
