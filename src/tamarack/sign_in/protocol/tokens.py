"""Tokens: made for a grant, signed or opaque, and found again."""

from __future__ import annotations

import secrets
from datetime import UTC, datetime, timedelta
from typing import Any

from authlib.oauth2 import OAuth2Error
from authlib.oidc.core import UserInfo
from authlib.oidc.core.grants import OpenIDToken
from flask import g, request
from joserfc.jwk import import_key
from sqlmodel import select

from tamarack.core.identity.jose import BadToken, check_claims, keys_of_set, peek, verify
from tamarack.core.sign_in.audience import Audience
from tamarack.core.sign_in.protected import BadTarget, chosen
from tamarack.core.sign_in.scopes import EMAIL, OFFLINE, OPENID, PROFILE, asked_for, granted
from tamarack.core.sign_in.tokens import (
    ALGORITHMS,
    OPAQUE,
    SKEW_S,
    TYPE,
    AccessToken,
    audience_of,
    claims_of,
    make_access_token,
)
from tamarack.sign_in.page import issuer_of
from tamarack.sign_in.protocol.client import Client, allowed_scopes
from tamarack.sign_in.protocol.keys import digest, public_keys, signing_key
from tamarack.sign_in.protocol.running import audience
from tamarack.store.applications.tables import Subscription
from tamarack.store.columns import now
from tamarack.store.sign_in import grants as granting
from tamarack.store.sign_in.clients import REFRESH, new_secret
from tamarack.store.sign_in.tables import Directory, EndUser, OpaqueToken, RefreshToken, SignInClient, SignInGrant
from tamarack.web.application import db


class InvalidTargetError(OAuth2Error):
    """A resource that tokens are not made for (RFC 8707, 2)."""

    error = "invalid_target"


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


class IdToken(OpenIDToken):
    """The ID token beside an access token, where the scope `openid` was granted."""

    def resolve_client_private_key(self, client: Client) -> Any:
        return import_key(signing_key())

    def get_encode_header(self, client: Client) -> dict[str, Any]:
        return {"alg": signing_key()["alg"], "kid": signing_key()["kid"], "typ": "JWT"}

    def get_client_algorithm(self, client: Client) -> str:
        return str(signing_key()["alg"])

    def get_client_claims(self, client: Client) -> dict[str, Any]:
        directory: Directory = g.directory
        issued = int(now().timestamp())
        return {"iss": issuer_of(directory), "aud": [client.id], "iat": issued,
                "exp": issued + (client.kept.access_minutes or directory.access_minutes) * 60,
                "application": client.kept.application_id, "environment": client.kept.environment,
                "grant": g.granted.id}  # fmt: skip

    def generate_user_info(self, user: EndUser, scope: str) -> UserInfo:
        return UserInfo(**facts_of(user, asked_for(scope)))


def facts_of(user: EndUser, scopes: Any) -> dict[str, Any]:
    """What a client is told of a user, by the scopes that the user agreed to."""
    found: dict[str, Any] = {"sub": user.id}
    if PROFILE in scopes:
        found |= {"name": user.name} | user.profile
    if EMAIL in scopes:
        found |= {"email": user.email, "email_verified": user.email_confirmed}
    return found


def make_token(
    grant_type: str, client: Client, user: EndUser | None = None, scope: str | None = None,
    expires_in: int | None = None, include_refresh_token: bool = True,
) -> dict[str, Any]:  # fmt: skip
    """An access token, and a refresh token where the client may stay signed in."""
    directory: Directory = g.directory
    kept = client.kept
    said = audience(kept.environment)
    scopes = list(granted(asked_for(scope or ""), allowed_scopes(kept)))
    grant: SignInGrant | None = g.pop("grant", None)
    asked = resources_asked()
    try:
        resources = chosen(asked, said.resources, grant.resources if grant is not None else ())
    except BadTarget as error:
        raise InvalidTargetError(str(error)) from None
    if grant is None:
        grant = granting.new_grant(db(), kept, user.id if user is not None else None, scopes, resources)
    g.granted = grant
    if asked:
        scopes = said.scopes_for(resources, scopes)
    issued = now()
    minutes = kept.access_minutes or _minutes_by_plan(kept, said, resources, scopes) or directory.access_minutes
    access = _access_token(client, user, grant, scopes, resources, issued, minutes)
    value = _value_of(access, grant, said.is_opaque(resources, scopes))
    made = {"token_type": "Bearer", "access_token": value, "expires_in": minutes * 60, "scope": " ".join(scopes)}
    stays = REFRESH in kept.grants and (OFFLINE in grant.scopes or OPENID not in grant.scopes)
    if include_refresh_token and user is not None and stays:
        refresh = made["refresh_token"] = new_secret()
        db().add(RefreshToken(digest=digest(refresh), grant_id=grant.id,
                              expires_at=issued + timedelta(days=directory.refresh_days)))  # fmt: skip
    db().flush()
    return made


def _access_token(
    client: Client,
    user: EndUser | None,
    grant: SignInGrant,
    scopes: list[str],
    resources: list[str],
    issued: datetime,
    minutes: int,
) -> AccessToken:
    kept, issuer = client.kept, issuer_of(g.directory)
    return AccessToken(
        issuer=issuer,
        subject=user.id if user is not None else kept.id,
        client=kept.id,
        application=kept.application_id,
        environment=kept.environment,
        grant=grant.id,
        scopes=scopes,
        audience=resources or [audience_of(issuer, kept.environment)],
        issued_at=int(issued.timestamp()),
        expires_at=int(issued.timestamp()) + minutes * 60,
        id=secrets.token_hex(12),
        user=user is not None,
        auth_time=int((grant.auth_at or grant.made_at).timestamp()),
        groups=user.groups if user is not None else (),
        claims=tuple(user.claims.items()) if user is not None else (),
    )


def _value_of(access: AccessToken, grant: SignInGrant, opaque: bool) -> str:
    """The token as its client gets it: signed, or opaque with what it would say kept beside its digest."""
    until = datetime.fromtimestamp(access.expires_at, UTC)
    granting.lives_until(db(), grant, until)
    if not opaque:
        return make_access_token(access, signing_key())
    value = OPAQUE + new_secret()
    db().add(OpaqueToken(digest=digest(value), grant_id=grant.id, claims=claims_of(access), expires_at=until))
    return value


def resources_asked() -> list[str]:
    """The resources that this request names (RFC 8707, 2)."""
    return request.form.getlist("resource")


def _minutes_by_plan(client: SignInClient, said: Audience, resources: list[str], scopes: list[str]) -> int:
    """How long the token lasts by the plans of its application's subscriptions; 0 where none says."""
    if not said.minutes:
        return 0
    query = select(Subscription.product, Subscription.plan).where(
        Subscription.application_id == client.application_id,
        Subscription.environment == client.environment,
        Subscription.state == "active",
    )
    return said.minutes_of(db().exec(query), resources, scopes)


def token_of(value: str) -> Token | None:
    """A token that was made here and is good: a refresh token, or an access token. Looking does not use it up."""
    kept = db().get(RefreshToken, digest(value))
    claims: dict[str, Any] = {}
    if kept is not None:
        grant_id = kept.grant_id
        if kept.used_at is not None or kept.expires_at <= now():
            return None
    else:
        claims = _opaque_claims(value) if value.startswith(OPAQUE) else _signed_claims(value)
        grant_id = str(claims.get("grant", ""))
    grant = db().get(SignInGrant, grant_id) if grant_id else None
    if grant is None or grant.ended_at is not None:
        return None
    return Token(grant, kept, claims)


def _opaque_claims(value: str) -> dict[str, Any]:
    found = db().get(OpaqueToken, digest(value))
    if found is None or found.expires_at <= now() or found.claims.get("iss") != issuer_of(g.directory):
        return {}
    return found.claims


def _signed_claims(value: str) -> dict[str, Any]:
    """What an access token says, whatever resource it is for; nothing where it is not good."""
    token = value.encode("utf-8", "replace")
    try:
        header, _ = peek(token)
        claims = verify(token, keys_of_set({"keys": public_keys()}), ALGORITHMS, named=True)
        check_claims(claims, issuer_of(g.directory), (), SKEW_S, now().timestamp())
    except BadToken:
        return {}
    return claims if header.get("typ") == TYPE else {}
