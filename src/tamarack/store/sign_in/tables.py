"""Directories of end users, the clients that sign them in, and what was granted to those."""

from datetime import datetime
from typing import Any

from sqlmodel import BigInteger, Column, Field, SQLModel, UniqueConstraint

from tamarack.core.sign_in.password_rules import PasswordRules
from tamarack.store.columns import Json, Moment, Names, new_id


class Directory(SQLModel, table=True):
    """A set of end users, with rules of its own. Each is an issuer of tokens."""

    __tablename__ = "directory"

    name: str = Field(primary_key=True)
    title: str
    rules: dict[str, Any] = Json()
    access_minutes: int = 60
    refresh_days: int = 30
    sign_up: bool = False
    """Whether anyone may make themselves a user."""
    codes: str = "off"
    """Whether users show a one-time code (RFC 6238) beside the password: `off`, `optional` or `required`."""
    active: bool = True
    made_at: datetime = Moment()

    @property
    def password_rules(self) -> PasswordRules:
        """The rules for passwords."""
        return PasswordRules.model_validate(self.rules)


class EndUser(SQLModel, table=True):
    """Someone who uses applications. `groups` and `claims` are set by staff; name and profile by the user."""

    __tablename__ = "end_user"
    __table_args__ = (UniqueConstraint("directory", "email"),)

    id: str = Field(default_factory=new_id, primary_key=True)
    directory: str = Field(foreign_key="directory.name", index=True)
    email: str
    name: str
    email_confirmed: bool = False
    """Whether the user has followed a link that was sent there."""
    password_hash: str | None = None
    must_change_password: bool = False
    active: bool = True
    session_epoch: int = 0
    groups: list[str] = Names()
    claims: dict[str, Any] = Json(default_factory=dict)
    profile: dict[str, Any] = Json(default_factory=dict)
    """What the user says of themselves, by the names of OpenID Connect Core, 5.1."""
    code_secret: str = ""
    """What one-time codes are made from, sealed; empty for none."""
    code_step: int = Field(default=0, sa_column=Column(BigInteger, nullable=False))
    """The newest time step whose code was used: none works twice (RFC 6238, 5.2)."""
    spare_codes: list[str] = Names()
    """Digests of codes for when the device that makes them is lost, each good once."""
    made_at: datetime = Moment()
    seen_at: datetime | None = Moment(default=None)

    @property
    def has_codes(self) -> bool:
        """Whether the user shows a one-time code at every sign-in."""
        return bool(self.code_secret)


class SignInClient(SQLModel, table=True):
    """A client of the sign-in service (OAuth 2.0): how an application gets tokens in one environment."""

    __tablename__ = "sign_in_client"

    id: str = Field(primary_key=True)
    application_id: str = Field(foreign_key="application.id", index=True)
    directory: str = Field(foreign_key="directory.name")
    environment: str
    title: str
    confidential: bool
    secret_digest: str = ""
    """A keyed hash of the secret; empty for a public client."""
    old_secret_digest: str = ""
    """Of the secret before, which is good until `old_secret_until`."""
    old_secret_until: datetime | None = Moment(default=None)
    redirects: list[str] = Names()
    after_sign_out: list[str] = Names()
    """Where users may be sent when they have signed out (OpenID Connect RP-Initiated Logout, 3.1)."""
    access_minutes: int = 0
    """How long its access tokens last; 0 for as long as the plan says, or the directory."""
    grants: list[str] = Names()
    scopes: list[str] = Names()
    made_at: datetime = Moment()
    revoked_at: datetime | None = Moment(default=None)


class SignInGrant(SQLModel, table=True):
    """What a client was granted, by a user or for itself. Every token names its grant; when it ends, so do they."""

    __tablename__ = "sign_in_grant"

    id: str = Field(default_factory=new_id, primary_key=True)
    client_id: str = Field(foreign_key="sign_in_client.id", index=True)
    user_id: str | None = Field(default=None, foreign_key="end_user.id", index=True)
    scopes: list[str] = Names()
    resources: list[str] = Names()
    """The APIs that its tokens are for (RFC 8707); none for all of the client's environment."""
    auth_at: datetime | None = Moment(default=None)
    """When the user had signed in who granted it."""
    made_at: datetime = Moment()
    ended_at: datetime | None = Moment(default=None)
    why: str = ""
    expires_at: datetime = Moment()
    """When the last access token that came from it is over."""


class Consent(SQLModel, table=True):
    """What a user has agreed to for a client."""

    __tablename__ = "consent"

    user_id: str = Field(foreign_key="end_user.id", primary_key=True)
    client_id: str = Field(foreign_key="sign_in_client.id", primary_key=True)
    scopes: list[str] = Names()
    given_at: datetime = Moment()


class AuthorizationCode(SQLModel, table=True):
    """An authorization code (RFC 6749, 4.1.2), by its digest; used once."""

    __tablename__ = "authorization_code"

    digest: str = Field(primary_key=True)
    grant_id: str = Field(foreign_key="sign_in_grant.id")
    redirect_uri: str
    named_redirect: bool = True
    """Whether the request named its address; then the token request has to name the same."""
    code_challenge: str = ""
    nonce: str = ""
    auth_at: datetime = Moment()
    expires_at: datetime = Moment(index=True)
    used_at: datetime | None = Moment(default=None)


class RefreshToken(SQLModel, table=True):
    """A refresh token, by its digest; used once, and then another takes its place."""

    __tablename__ = "refresh_token"

    digest: str = Field(primary_key=True)
    grant_id: str = Field(foreign_key="sign_in_grant.id", index=True)
    made_at: datetime = Moment()
    expires_at: datetime = Moment(index=True)
    used_at: datetime | None = Moment(default=None)


class OpaqueToken(SQLModel, table=True):
    """An access token that says nothing itself, by its digest; `claims` are what it would say."""

    __tablename__ = "opaque_token"

    digest: str = Field(primary_key=True)
    grant_id: str = Field(foreign_key="sign_in_grant.id", index=True)
    claims: dict[str, Any] = Json()
    expires_at: datetime = Moment(index=True)


class PushedRequest(SQLModel, table=True):
    """An authorization request that a client sent ahead (RFC 9126), by the digest of its name."""

    __tablename__ = "pushed_request"

    digest: str = Field(primary_key=True)
    client_id: str = Field(foreign_key="sign_in_client.id")
    asked: dict[str, Any] = Json()
    made_at: datetime = Moment()
    expires_at: datetime = Moment(index=True)


class DeviceRequest(SQLModel, table=True):
    """A device that waits for its user to let it in elsewhere (RFC 8628), by the digests of its two codes."""

    __tablename__ = "device_request"

    digest: str = Field(primary_key=True)
    user_digest: str = Field(unique=True)
    """Of the code that the user types."""
    client_id: str = Field(foreign_key="sign_in_client.id")
    scopes: list[str] = Names()
    resources: list[str] = Names()
    expires_at: datetime = Moment(index=True)
    interval_s: int
    """How long the device waits between two questions."""
    asked_at: datetime | None = Moment(default=None)
    answer: str = ""
    """Of the user: `allow`, `deny`, or nothing yet."""
    grant_id: str | None = Field(default=None, foreign_key="sign_in_grant.id")
    auth_at: datetime | None = Moment(default=None)
    used_at: datetime | None = Moment(default=None)


class SignInEvent(SQLModel, table=True):
    """Something that happened at the sign-in service: who, with which client, what, and why it was refused."""

    __tablename__ = "sign_in_event"

    id: int | None = Field(default=None, primary_key=True)
    directory: str = Field(index=True)
    at: datetime = Moment(index=True)
    what: str
    refused: bool = False
    why: str = ""
    user_id: str | None = Field(default=None, index=True)
    who: str = ""
    """The mail address that was typed, or the user's."""
    client_id: str = ""
    address: str = ""
