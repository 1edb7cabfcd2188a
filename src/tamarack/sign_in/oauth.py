"""The authorization server: OAuth 2.0 (RFC 6749, 7636, 9068, 9207, 9700) and OpenID Connect, on Authlib.

What Authlib leaves open is decided here: codes and refresh tokens are used once however many ask at the same moment, a
second use ends the grant, redirect addresses are compared letter by letter, PKCE is S256 alone and asked of everyone.
"""

from __future__ import annotations

import secrets
from datetime import timedelta
from typing import Any

from authlib.oauth2.rfc6749 import InvalidGrantError, InvalidRequestError, InvalidScopeError
from authlib.oauth2.rfc6749.grants import AuthorizationCodeGrant, ClientCredentialsGrant, RefreshTokenGrant
from authlib.oauth2.rfc7009 import RevocationEndpoint
from authlib.oauth2.rfc7636 import CodeChallenge
from authlib.oauth2.rfc7662 import IntrospectionEndpoint
from authlib.oidc.core import UserInfo
from authlib.oidc.core.grants import OpenIDCode, OpenIDToken
from flask import current_app, g
from joserfc.jwk import ECKey

from tamarack.core.identity.jose import BadToken, keys_of_set
from tamarack.core.sign_in.redirects import is_registered
from tamarack.core.sign_in.scopes import EMAIL, OFFLINE, OPENID, PROFILE, STANDARD, asked_for, granted
from tamarack.core.sign_in.tokens import ALGORITHM, AccessToken, check_access_token, make_access_token
from tamarack.sign_in.page import issuer_of
from tamarack.store.columns import now
from tamarack.store.keys import signing
from tamarack.store.sign_in import grants as granting
from tamarack.store.sign_in.clients import CODE, DEVICE, REFRESH, digest_of, is_secret_of, new_secret
from tamarack.store.sign_in.tables import AuthorizationCode, Directory, EndUser, RefreshToken, SignInClient, SignInGrant
from tamarack.web.application import actor, db, settings_of


def pepper() -> bytes:
    """What secrets, codes and tokens are hashed with."""
    return settings_of(current_app).keys.raw("pepper")


def digest(value: str) -> str:
    """What is kept of a secret, code or token."""
    return digest_of(value, pepper())


def signing_key() -> dict[str, Any]:
    """The private key that signs tokens now, as JWK."""
    key = settings_of(current_app).keys.raw("secrets")
    return signing.private_key(db(), actor("sign-in service"), key, "token")


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


class Token:
    """A token that exists already, as Authlib asks for it: of a grant, with what it says."""

    def __init__(self, grant: SignInGrant, kept: RefreshToken | None, claims: dict[str, Any]) -> None:
        self.grant = grant
        self.kept = kept
        self.claims = claims

    def check_client(self, client: Client) -> bool:
        """See Authlib's TokenMixin, as all below."""
        return client.id == self.grant.client_id

    def get_scope(self) -> str:
        return str(self.claims.get("scope", " ".join(self.grant.scopes)))

    def is_expired(self) -> bool:
        return False  # `token_of` finds none that is

    def is_revoked(self) -> bool:
        return False


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
        return ["pwd"]


def find_client(client_id: str) -> Client | None:
    """A client of the directory that is asked, which is not revoked."""
    found = db().get(SignInClient, client_id) if client_id else None
    directory: Directory = g.directory
    if found is None or found.directory != directory.name or found.revoked_at is not None:
        return None
    return Client(found)


class CodeGrant(AuthorizationCodeGrant):
    """A code is turned into tokens, once (RFC 6749, 4.1)."""

    TOKEN_ENDPOINT_AUTH_METHODS = ["client_secret_basic", "client_secret_post", "none"]

    def save_authorization_code(self, code: str, request: Any) -> None:
        client: Client = request.client
        scopes = granted(asked_for(request.payload.scope or ""), allowed_scopes(client.kept))
        grant = granting.new_grant(db(), client.kept, request.user.id, scopes)
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


class IdToken(OpenIDToken):
    """The ID token beside an access token, where the scope `openid` was granted."""

    def resolve_client_private_key(self, client: Client) -> Any:
        return ECKey.import_key(signing_key())

    def get_encode_header(self, client: Client) -> dict[str, Any]:
        return {"alg": ALGORITHM, "kid": signing_key()["kid"]}

    def get_client_algorithm(self, client: Client) -> str:
        return ALGORITHM

    def get_client_claims(self, client: Client) -> dict[str, Any]:
        directory: Directory = g.directory
        issued = int(now().timestamp())
        return {"iss": issuer_of(directory), "aud": [client.id], "iat": issued,
                "exp": issued + directory.access_minutes * 60}  # fmt: skip

    def generate_user_info(self, user: EndUser, scope: str) -> UserInfo:
        return UserInfo(**facts_of(user, asked_for(scope)))


class OpenId(IdToken, OpenIDCode):
    """OpenID Connect on the code grant (Core, 3.1)."""

    def exists_nonce(self, nonce: str, request: Any) -> bool:
        return False  # bound to the code, which is used once; the client compares it


def facts_of(user: EndUser, scopes: Any) -> dict[str, Any]:
    """What a client is told of a user, by the scopes that the user agreed to."""
    found: dict[str, Any] = {"sub": user.id}
    if PROFILE in scopes:
        found["name"] = user.name
    if EMAIL in scopes:
        found |= {"email": user.email, "email_verified": user.email_confirmed}
    return found


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


def make_token(
    grant_type: str, client: Client, user: EndUser | None = None, scope: str | None = None,
    expires_in: int | None = None, include_refresh_token: bool = True,
) -> dict[str, Any]:  # fmt: skip
    """An access token, and a refresh token where the client may stay signed in."""
    directory: Directory = g.directory
    kept = client.kept
    scopes = granted(asked_for(scope or ""), allowed_scopes(kept))
    grant: SignInGrant | None = g.pop("grant", None)
    if grant is None:
        grant = granting.new_grant(db(), kept, user.id if user is not None else None, scopes)
    g.granted = grant
    issued = now()
    until = issued + timedelta(minutes=directory.access_minutes)
    granting.lives_until(db(), grant, until)
    access = AccessToken(
        issuer=issuer_of(directory),
        subject=user.id if user is not None else kept.id,
        client=kept.id,
        application=kept.application_id,
        environment=kept.environment,
        grant=grant.id,
        scopes=scopes,
        issued_at=int(issued.timestamp()),
        expires_at=int(until.timestamp()),
        id=secrets.token_hex(12),
        user=user is not None,
        auth_time=int(grant.made_at.timestamp()),
        groups=user.groups if user is not None else (),
        claims=tuple(user.claims.items()) if user is not None else (),
    )
    made = {
        "token_type": "Bearer",
        "access_token": make_access_token(access, signing_key()),
        "expires_in": directory.access_minutes * 60,
        "scope": " ".join(scopes),
    }
    stays = REFRESH in kept.grants and (OFFLINE in grant.scopes or OPENID not in grant.scopes)
    if include_refresh_token and user is not None and stays:
        refresh = new_secret()
        db().add(RefreshToken(digest=digest(refresh), grant_id=grant.id,
                              expires_at=issued + timedelta(days=directory.refresh_days)))  # fmt: skip
        made["refresh_token"] = refresh
    db().flush()
    return made


def token_of(value: str) -> Token | None:
    """A token that was made here and is good: a refresh token, or an access token. Looking does not use it up."""
    kept = db().get(RefreshToken, digest(value))
    claims: dict[str, Any] = {}
    grant_id = kept.grant_id if kept is not None else ""
    if kept is None:
        public = [
            one.public | {"kid": one.kid} for one in signing.signing_keys(db(), "token") if one.retired_at is None
        ]
        directory: Directory = g.directory
        for environment in ("production", "test"):
            try:
                _, claims = check_access_token(
                    value.encode("utf-8", "replace"), keys_of_set({"keys": public}), directory.name, environment,
                    now().timestamp(),
                )  # fmt: skip
            except BadToken:
                continue
            grant_id = str(claims["grant"])
            break
    grant = db().get(SignInGrant, grant_id) if grant_id else None
    if grant is None or grant.ended_at is not None:
        return None
    if kept is not None and (kept.used_at is not None or kept.expires_at <= now()):
        return None
    return Token(grant, kept, claims)


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
