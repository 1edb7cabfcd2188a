"""The authorization server put together: its grants, endpoints and extensions, registered with Authlib."""

from typing import Any

from authlib.integrations.flask_oauth2 import AuthorizationServer
from authlib.oauth2.rfc6749 import OAuth2Request
from authlib.oauth2.rfc6749.requests import BasicOAuth2Payload
from authlib.oauth2.rfc9207 import IssuerParameter
from flask import g

from tamarack.sign_in.page import issuer_of
from tamarack.sign_in.protocol.client import find_client
from tamarack.sign_in.protocol.device import DeviceAuthorization, DeviceGrant
from tamarack.sign_in.protocol.oauth import S256, CodeGrant, ForItself, Introspection, OpenId, Refresh, Revocation
from tamarack.sign_in.protocol.pushed import Pushed
from tamarack.sign_in.protocol.tokens import IdToken, make_token


class _Issuer(IssuerParameter):
    def get_issuer(self) -> str:
        return issuer_of(g.directory)


class _Server(AuthorizationServer):
    def create_oauth2_request(self, request: Any) -> OAuth2Request:
        """The request that is being answered; its parameters are those that were pushed, where they were (RFC 9126)."""
        made: OAuth2Request = super().create_oauth2_request(request)
        if "asked" in g:
            made.payload = BasicOAuth2Payload(g.asked)
        return made


def make_server() -> AuthorizationServer:
    """The authorization server; which directory it serves is said by the request's address (`g.directory`)."""
    server = _Server()
    server._query_client, server._save_token = find_client, lambda token, request: None
    server.register_token_generator("default", make_token)
    server.register_grant(CodeGrant, [S256(required=True), OpenId()])
    server.register_grant(Refresh)
    server.register_grant(ForItself)
    server.register_grant(DeviceGrant, [IdToken()])
    for endpoint in (Revocation, Introspection, DeviceAuthorization, Pushed):
        server.register_endpoint(endpoint)
    server.register_extension(_Issuer())
    return server
