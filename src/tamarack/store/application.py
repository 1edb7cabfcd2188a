"""Applications, their credentials and their subscriptions."""

from datetime import datetime

from sqlalchemy import UniqueConstraint
from sqlmodel import Field, SQLModel

from tamarack.store.columns import Moment, new_id


class Application(SQLModel, table=True):
    """What a developer registers: it owns credentials and subscriptions."""

    __table_args__ = (UniqueConstraint("organization_id", "name"),)

    id: str = Field(default_factory=new_id, primary_key=True)
    organization_id: str = Field(foreign_key="organization.id", index=True)
    name: str
    title: str
    description: str = ""
    active: bool = True
    made_at: datetime = Moment()
    made_by: str = ""


class Credential(SQLModel, table=True):
    """A key of an application in one environment. Only its keyed hash is kept."""

    id: str = Field(default_factory=new_id, primary_key=True)
    application_id: str = Field(foreign_key="application.id", index=True)
    environment: str
    label: str = ""
    digest: str = Field(unique=True)
    hint: str
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
