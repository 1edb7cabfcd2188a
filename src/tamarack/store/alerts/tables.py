"""Alerts, and what they told."""

from datetime import datetime
from typing import Any

from sqlmodel import Field, SQLModel

from tamarack.store.columns import Json, Moment, new_id


class AlertRow(SQLModel, table=True):
    """An alert: its rule (`core.traffic.alert.Rule`) and how it stands."""

    __tablename__ = "alert"

    id: str = Field(default_factory=new_id, primary_key=True)
    rule: dict[str, Any] = Json()
    owner: str
    paused: bool = False
    state: str = "calm"
    since: datetime | None = Moment(default=None)
    held: int = 0
    """For how many minutes a change of state has shown."""
    value: float | None = None
    looked_at: datetime | None = Moment(default=None)
    """The end of the last minute that was looked at."""
    changed_at: datetime = Moment()


class AlertEvent(SQLModel, table=True):
    """An alert was raised, or is over."""

    __tablename__ = "alert_event"

    id: int | None = Field(default=None, primary_key=True)
    alert_id: str = Field(foreign_key="alert.id", ondelete="CASCADE", index=True)
    what: str
    at: datetime = Moment(index=True)
    value: float | None = None
    mail_at: datetime | None = Moment(default=None, index=True)
    """When it is to be told by mail; none once it was, or where nobody is told."""
