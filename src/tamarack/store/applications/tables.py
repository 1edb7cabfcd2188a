"""Applications, their credentials and their subscriptions."""

from datetime import datetime

from sqlalchemy import BigInteger, Column, UniqueConstraint
from sqlmodel import Field, SQLModel

from tamarack.store.columns import Moment, Names, new_id


class Application(SQLModel, table=True):
    """What a developer registers: it owns credentials and subscriptions."""

    __table_args__ = (UniqueConstraint("organization_id", "name"),)

    id: str = Field(default_factory=new_id, primary_key=True)
    organization_id: str = Field(foreign_key="organization.id", index=True)
    name: str
    title: str
    description: str = ""
    picture: str = Field(default="", sa_column_kwargs={"server_default": ""})
    """The SHA-256 of its picture, empty where it has none."""
    active: bool = True
    groups: list[str] = Names()
    made_at: datetime = Moment()
    made_by: str = ""


class Credential(SQLModel, table=True):
    """A credential of an application in one environment, of a kind of `core.identity.credentials`.

    Only its keyed hash is kept; its value too, sealed, where the organization wants to look at it again.
    """

    id: str = Field(default_factory=new_id, primary_key=True)
    application_id: str = Field(foreign_key="application.id", index=True)
    environment: str
    kind: str = Field(default="api-key", sa_column_kwargs={"server_default": "api-key"})
    label: str = ""
    digest: str = Field(unique=True)
    hint: str
    public: str = Field(default="", sa_column_kwargs={"server_default": ""})
    """What of it is no secret: the client id, or the name that an outside issuer gives the application."""
    issuer: str = Field(default="", sa_column_kwargs={"server_default": ""})
    """Of an outside identity: who gives the name."""
    addresses: list[str] = Names()
    sites: list[str] = Names()
    sealed: str | None = None
    replaced_by: str | None = None
    """Set when it was rotated: the credential that took its place."""
    made_at: datetime = Moment()
    made_by: str = ""
    expires_at: datetime | None = Moment(default=None)
    revoked_at: datetime | None = Moment(default=None)
    used_at: datetime | None = Moment(default=None)


class Subscription(SQLModel, table=True):
    """An application on a plan of a product in an environment; `state` is pending, active, paused or ended."""

    __table_args__ = (UniqueConstraint("application_id", "product", "environment"),)

    id: str = Field(default_factory=new_id, primary_key=True)
    application_id: str = Field(foreign_key="application.id", index=True)
    product: str = Field(index=True)
    plan: str
    environment: str
    state: str = "active"
    message: str = ""
    made_at: datetime = Moment()
    made_by: str = ""
    changed_at: datetime = Moment()
    next_plan: str = Field(default="", sa_column_kwargs={"server_default": ""})
    """The plan it will be on from `next_at` on; where that is not set, somebody has yet to approve it."""
    next_at: datetime | None = Moment(default=None)
    quota_round: int = Field(default=0, sa_column_kwargs={"server_default": "0"})
    """How often its quota was begun anew by hand."""
    extra_start: int = Field(default=0, sa_column=Column(BigInteger, nullable=False, server_default="0"))
    extra_calls: int = Field(default=0, sa_column=Column(BigInteger, nullable=False, server_default="0"))
    """Calls granted on top of the quota's stretch that starts at `extra_start`, seconds since the epoch."""
