"""What belongs to the life of a version and is no part of the configuration."""

from datetime import datetime

from sqlmodel import Field, SQLModel

from tamarack.store.columns import Moment, Names


class Feedback(SQLModel, table=True):
    """What a developer says of a preview, or of one operation (`call`) of it; `thumb` is up, down, or empty."""

    id: int | None = Field(default=None, primary_key=True)
    api: str = Field(index=True)
    version: str
    call: str = ""
    organization_id: str = Field(foreign_key="organization.id", index=True)
    person_id: str | None = Field(default=None, foreign_key="person.id", ondelete="SET NULL")
    """Who said it; empty once they are gone."""
    thumb: str = ""
    text: str = ""
    made_at: datetime = Moment()
    answer: str = ""
    answered_by: str = ""
    """A member of staff; developers do not see who."""
    answered_at: datetime | None = Moment(default=None)


class PreviewReader(SQLModel, table=True):
    """Someone who wants to be told when a preview is published."""

    __tablename__ = "preview_reader"

    api: str = Field(primary_key=True)
    version: str = Field(primary_key=True)
    person_id: str = Field(primary_key=True, foreign_key="person.id", ondelete="CASCADE")


class PlannedStep(SQLModel, table=True):
    """A version's step to another state that the worker takes when its time comes."""

    __tablename__ = "planned_step"

    id: int | None = Field(default=None, primary_key=True)
    api: str = Field(index=True)
    version: str
    state: str
    environment: str
    at: datetime = Moment(index=True)
    made_by: str = ""
    made_at: datetime = Moment()
    standing: str = "planned"
    """planned, taken, called off, or not possible."""
    settled_at: datetime | None = Moment(default=None)
    settled_by: str = ""
    outcome: str = ""
    """Why it was not possible."""
    rollout: int | None = None
    """The rollout that took it."""


class Letter(SQLModel, table=True):
    """What was written to those who still call a version, and to whom."""

    id: int | None = Field(default=None, primary_key=True)
    api: str = Field(index=True)
    version: str
    title: str
    text: str
    made_at: datetime = Moment()
    made_by: str = ""
    mailed: int = 0
    """How many people were told by mail."""
    applications: list[str] = Names()
    """The ids of the applications that it is about."""
