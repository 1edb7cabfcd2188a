"""The secret store: named values, sealed with a key that the database does not hold."""

from datetime import datetime

from sqlmodel import Field, SQLModel

from tamarack.store.columns import Moment, Names, new_id


class Secret(SQLModel, table=True):
    """A secret's name and what it is for."""

    name: str = Field(primary_key=True)
    summary: str = ""
    hosts: list[str] = Names()
    """Hosts that it may be sent to, each with a port or without; empty for none."""
    made_at: datetime = Moment()
    made_by: str = ""


class SecretValue(SQLModel, table=True):
    """One value of a secret; `environment` empty for all that have none of their own.

    A value that was rotated is accepted `until` a time, then removed.
    """

    __tablename__ = "secret_value"

    id: str = Field(default_factory=new_id, primary_key=True)
    secret: str = Field(foreign_key="secret.name", index=True)
    environment: str = ""
    sealed: str
    until: datetime | None = Moment(default=None)
    made_at: datetime = Moment()
    made_by: str = ""
