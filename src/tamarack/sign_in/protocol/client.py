"""Clients, as Authlib asks for them."""

from __future__ import annotations

from flask import g

from tamarack.core.sign_in.redirects import is_registered
from tamarack.core.sign_in.scopes import OFFLINE, STANDARD, asked_for, granted
from tamarack.sign_in.protocol.keys import pepper
from tamarack.store.sign_in.clients import CODE, DEVICE, REFRESH, is_secret_of
from tamarack.store.sign_in.tables import Directory, SignInClient
from tamarack.web.application import db


class Client:
    """A client as Authlib asks for it."""

    def __init__(self, kept: SignInClient) -> None:
        self.kept = kept
        self.id = kept.id

    def get_client_id(self) -> str:
        """See Authlib's ClientMixin, as all below."""
        return self.kept.id

    def get_default_redirect_uri(self) -> str | None:
        redirects = self.kept.redirects
        return redirects[0] if len(redirects) == 1 else None

    def get_allowed_scope(self, scope: str) -> str:
        return " ".join(granted(asked_for(scope or ""), allowed_scopes(self.kept)))

    def check_redirect_uri(self, redirect_uri: str) -> bool:
        return is_registered(redirect_uri, self.kept.redirects)

    def check_client_secret(self, client_secret: str) -> bool:
        return is_secret_of(self.kept, client_secret, pepper())

    def check_endpoint_auth_method(self, method: str, endpoint: str) -> bool:
        return method == "none" if not self.kept.confidential else method != "none"

    def check_response_type(self, response_type: str) -> bool:
        return response_type == "code" and CODE in self.kept.grants

    def check_grant_type(self, grant_type: str) -> bool:
        return grant_type in self.kept.grants


def allowed_scopes(client: SignInClient) -> list[str]:
    """The scopes that a client may ask for."""
    standard = [scope for scope in STANDARD if scope != OFFLINE or REFRESH in client.grants]
    return [*(standard if {CODE, DEVICE} & set(client.grants) else ()), *client.scopes]


def find_client(client_id: str) -> Client | None:
    """A client of the directory that is asked, which is not revoked."""
    found = db().get(SignInClient, client_id) if client_id else None
    directory: Directory = g.directory
    if found is None or found.directory != directory.name or found.revoked_at is not None:
        return None
    return Client(found)
