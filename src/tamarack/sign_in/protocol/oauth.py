"""The authorization server: OAuth 2.0 (RFC 6749, 7636, 9068, 9207, 9700) and OpenID Connect, on Authlib.

What Authlib leaves open is decided here: codes and refresh tokens are used once however many ask at the same moment, a
second use ends the grant, redirect addresses are compared letter by letter, PKCE is S256 alone and asked of everyone.
"""

from __future__ import annotations

from typing import Any

from authlib.oauth2.rfc6749 import InvalidGrantError, InvalidRequestError, InvalidScopeError
from authlib.oauth2.rfc6749.grants import AuthorizationCodeGrant, ClientCredentialsGrant, RefreshTokenGrant
from authlib.oauth2.rfc7009 import RevocationEndpoint
from authlib.oauth2.rfc7636 import CodeChallenge
from authlib.oauth2.rfc7662 import IntrospectionEndpoint
from authlib.oidc.core.grants import OpenIDCode
from flask import g

from tamarack.core.sign_in.scopes import asked_for, granted
from tamarack.sign_in.protocol.client import Client, allowed_scopes
from tamarack.sign_in.protocol.keys import digest
from tamarack.sign_in.protocol.running import audience
from tamarack.sign_in.protocol.tokens import IdToken, Token, token_of
from tamarack.store.columns import now
from tamarack.store.sign_in import grants as granting
from tamarack.store.sign_in.tables import AuthorizationCode, EndUser, RefreshToken, SignInGrant
from tamarack.web.application import db


class Code:
    """A code that is being used, as Authlib asks for it."""

    code_challenge_method = "S256"

    def __init__(self, kept: AuthorizationCode, grant: SignInGrant) -> None:
        self.kept = kept
        self.grant = grant
        self.code_challenge = kept.code_challenge

    def get_redirect_uri(self) -> str:
        """See Authlib's AuthorizationCodeMixin, as all below."""
        return self.kept.redirect_uri if self.kept.named_redirect else ""

    def get_scope(self) -> str:
        return " ".join(self.grant.scopes)

    def get_nonce(self) -> str:
        return self.kept.nonce

    def get_auth_time(self) -> int:
        return int(self.kept.auth_at.timestamp())

    def get_acr(self) -> None:
        return None

    def get_amr(self) -> list[str]:
        """How the user showed who they are (RFC 8176): whoever has one-time codes is never let in without."""
        user = db().get(EndUser, self.grant.user_id)
        return ["pwd", "otp"] if user is not None and user.has_codes else ["pwd"]


class CodeGrant(AuthorizationCodeGrant):
    """A code is turned into tokens, once (RFC 6749, 4.1)."""

    TOKEN_ENDPOINT_AUTH_METHODS = ["client_secret_basic", "client_secret_post", "none"]

    def save_authorization_code(self, code: str, request: Any) -> None:
        client: Client = request.client
        asked = granted(asked_for(request.payload.scope or ""), allowed_scopes(client.kept))
        scopes = audience(client.kept.environment).scopes_for(g.resources, asked)
        grant = granting.new_grant(db(), client.kept, request.user.id, scopes, g.resources, g.auth_at)
        data = request.payload.data
        db().add(
            AuthorizationCode(
                digest=digest(code),
                grant_id=grant.id,
                redirect_uri=request.payload.redirect_uri or client.get_default_redirect_uri() or "",
                named_redirect=bool(request.payload.redirect_uri),
                code_challenge=data["code_challenge"],
                nonce=data.get("nonce", "")[:200],
                auth_at=g.auth_at,
                expires_at=now() + granting.CODE_LIVES,
            )
        )
        db().flush()

    def query_authorization_code(self, code: str, client: Client) -> Code | None:
        """A code is looked up by using it: a second time finds nothing, and ends what came of the first."""
        kept = db().get(AuthorizationCode, digest(code))
        grant = db().get(SignInGrant, kept.grant_id) if kept is not None else None
        if kept is None or grant is None or grant.client_id != client.id:
            return None  # another's code: it is not used up for whoever it was given to
        use, _ = granting.use_code(db(), kept.digest)
        db().commit()  # used, whatever comes of this request
        return Code(kept, grant) if use == "used" else None

    def delete_authorization_code(self, authorization_code: Code) -> None:
        """It is kept as used, so that a second use is seen."""

    def authenticate_user(self, authorization_code: Code) -> EndUser | None:
        user = db().get(EndUser, authorization_code.grant.user_id)
        g.grant = authorization_code.grant
        return user if user is not None and user.active else None


class S256(CodeChallenge):
    """PKCE (RFC 7636) by S256 alone, asked of every client (RFC 9700, 2.1.1)."""

    DEFAULT_CODE_CHALLENGE_METHOD = "S256"
    SUPPORTED_CODE_CHALLENGE_METHOD = ["S256"]

    def validate_code_challenge(self, grant: Any, redirect_uri: str) -> None:
        data = grant.request.payload.data
        if not data.get("code_challenge") or data.get("code_challenge_method") != "S256":
            raise InvalidRequestError("PKCE is asked for: send code_challenge, and code_challenge_method=S256.",
                                      redirect_uri=redirect_uri)  # fmt: skip
        super().validate_code_challenge(grant, redirect_uri)


class OpenId(IdToken, OpenIDCode):
    """OpenID Connect on the code grant (Core, 3.1)."""

    def exists_nonce(self, nonce: str, request: Any) -> bool:
        return False  # bound to the code, which is used once; the client compares it


class Refresh(RefreshTokenGrant):
    """A refresh token is turned into tokens, once (RFC 6749, 6)."""

    TOKEN_ENDPOINT_AUTH_METHODS = ["client_secret_basic", "client_secret_post", "none"]
    INCLUDE_NEW_REFRESH_TOKEN = True

    def authenticate_refresh_token(self, refresh_token: str) -> Token | None:
        kept = db().get(RefreshToken, digest(refresh_token))
        grant = db().get(SignInGrant, kept.grant_id) if kept is not None else None
        if kept is None or grant is None or grant.client_id != self.request.client.id:
            return None
        scope = self.request.payload.scope
        if scope and not set(asked_for(scope)) <= set(grant.scopes):
            raise InvalidScopeError()  # before it is used up
        use, _ = granting.use_refresh_token(db(), kept.digest)
        db().commit()
        return Token(grant, kept, {}) if use == "used" else None

    def authenticate_user(self, refresh_token: Token) -> EndUser | None:
        user = db().get(EndUser, refresh_token.grant.user_id)
        g.grant = refresh_token.grant
        if user is None or not user.active or user.must_change_password:
            raise InvalidGrantError("The user has to sign in anew.")
        return user

    def revoke_old_credential(self, refresh_token: Token) -> None:
        """It was used up when it was looked up."""


class ForItself(ClientCredentialsGrant):
    """A client that keeps a secret calls for itself (RFC 6749, 4.4)."""

    TOKEN_ENDPOINT_AUTH_METHODS = ["client_secret_basic", "client_secret_post"]


class Revocation(RevocationEndpoint):
    """A client is done with a token: all of its grant ends (RFC 7009)."""

    CLIENT_AUTH_METHODS = ["client_secret_basic", "client_secret_post", "none"]

    def query_token(self, token_string: str, token_type_hint: str | None) -> Token | None:
        return token_of(token_string)

    def revoke_token(self, token: Token, request: Any) -> None:
        granting.end_grant(db(), token.grant, "revoked by its client")


class Introspection(IntrospectionEndpoint):
    """Whether a token is good, told to the client that it was given to (RFC 7662)."""

    CLIENT_AUTH_METHODS = ["client_secret_basic", "client_secret_post"]

    def query_token(self, token_string: str, token_type_hint: str | None) -> Token | None:
        return token_of(token_string)

    def check_permission(self, token: Token, client: Client, request: Any) -> bool:
        return token.check_client(client)

    def introspect_token(self, token: Token) -> dict[str, Any]:
        said = {"active": True, "client_id": token.grant.client_id, "scope": token.get_scope()}
        if token.kept is not None:
            return said | {"token_type": "refresh_token", "exp": int(token.kept.expires_at.timestamp())}
        named = {
            name: token.claims[name] for name in ("iss", "sub", "aud", "exp", "iat", "jti") if name in token.claims
        }
        return said | {"token_type": "Bearer"} | named
