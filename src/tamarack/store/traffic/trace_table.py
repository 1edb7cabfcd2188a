"""Traces of single calls, and which live calls are traced."""

from datetime import datetime
from typing import Any

from sqlmodel import Field, SQLModel

from tamarack.store.columns import Json, Moment


class Trace(SQLModel, table=True):
    """What each policy did with one call."""

    call: str = Field(primary_key=True)
    at: datetime = Moment(index=True)
    environment: str
    application: str = ""
    by: str = ""
    """Who sent the call from the bench; empty for a live call."""
    body: dict[str, Any] = Json()


class TraceShare(SQLModel, table=True):
    """The share of all live calls of an environment that is traced, from 0 to 1."""

    __tablename__ = "trace_share"

    environment: str = Field(primary_key=True)
    share: float = 0.0


class TraceWatch(SQLModel, table=True):
    """An application whose calls are all traced until a time."""

    __tablename__ = "trace_watch"

    environment: str = Field(primary_key=True)
    application_id: str = Field(primary_key=True, foreign_key="application.id")
    until: datetime = Moment()
    by: str = ""
