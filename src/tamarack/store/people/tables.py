"""Organizations, and the people in them who use the portal."""

from datetime import datetime

from sqlmodel import Field, SQLModel

from tamarack.store.columns import Moment, Names, new_id


class Organization(SQLModel, table=True):
    """A team inside or a partner outside; `kind` is internal or partner."""

    id: str = Field(default_factory=new_id, primary_key=True)
    name: str = Field(unique=True)
    title: str
    kind: str = "partner"
    active: bool = True
    groups: list[str] = Names()
    """Groups that all of its applications carry."""
    may_look_again: bool = Field(default=False, sa_column_kwargs={"server_default": "false"})
    """Whether the values of credentials made from now on are kept, sealed, so that they can be looked at again."""
    made_at: datetime = Moment()


class Person(SQLModel, table=True):
    """Someone who signs in to the portal; `role` is lead or member."""

    id: str = Field(default_factory=new_id, primary_key=True)
    organization_id: str = Field(foreign_key="organization.id", index=True)
    email: str = Field(unique=True)
    name: str
    role: str = "member"
    password_hash: str
    must_change_password: bool = Field(default=False, sa_column_kwargs={"server_default": "false"})
    """Set where someone else chose the password: its owner has to choose another before anything else."""
    active: bool = True
    session_epoch: int = 0
    made_at: datetime = Moment()
    seen_at: datetime | None = Moment(default=None)
