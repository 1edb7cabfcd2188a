"""The authorization server put together: its grants, endpoints and extensions, registered with Authlib."""

from authlib.integrations.flask_oauth2 import AuthorizationServer
from authlib.oauth2.rfc9207 import IssuerParameter
from flask import g

from tamarack.sign_in.device import DeviceAuthorization, DeviceGrant
from tamarack.sign_in.oauth import (
    S256,
    CodeGrant,
    ForItself,
    IdToken,
    Introspection,
    OpenId,
    Refresh,
    Revocation,
    find_client,
    make_token,
)
from tamarack.sign_in.page import issuer_of


class _Issuer(IssuerParameter):
    def get_issuer(self) -> str:
        return issuer_of(g.directory)


def make_server() -> AuthorizationServer:
    """The authorization server; which directory it serves is said by the request's address (`g.directory`)."""
    server = AuthorizationServer()
    server._query_client, server._save_token = find_client, lambda token, request: None
    server.register_token_generator("default", make_token)
    server.register_grant(CodeGrant, [S256(required=True), OpenId()])
    server.register_grant(Refresh)
    server.register_grant(ForItself)
    server.register_grant(DeviceGrant, [IdToken()])
    for endpoint in (Revocation, Introspection, DeviceAuthorization):
        server.register_endpoint(endpoint)
    server.register_extension(_Issuer())
    return server
