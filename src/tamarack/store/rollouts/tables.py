"""Rollouts, what nodes follow besides, and what they said of targets."""

from datetime import datetime
from typing import Any

from sqlmodel import Field, SQLModel

from tamarack.store.columns import Json, Moment


class Rollout(SQLModel, table=True):
    """A numbered configuration sent to an environment: the configuration, and the snapshot made of it."""

    number: int | None = Field(default=None, primary_key=True)
    environment: str = Field(index=True)
    configuration: dict[str, Any] = Json()
    snapshot: dict[str, Any] = Json()
    note: str = ""
    back_to: int | None = None
    """Set where this one brings an earlier one back."""
    made_at: datetime = Moment()
    made_by: str = ""


class TargetChange(SQLModel, table=True):
    """A change of a target's state, as one node saw it."""

    __tablename__ = "target_change"

    id: int | None = Field(default=None, primary_key=True)
    at: datetime = Moment(index=True)
    environment: str
    node: str
    backend: str = Field(index=True)
    target: str
    state: str
    """Well, unwell, open or half-open."""
    why: str = ""


class FeedItem(SQLModel, table=True):
    """The newest state of a caller, with its place in the sequence that nodes follow. No body: it is gone."""

    __tablename__ = "feed_item"

    kind: str = Field(primary_key=True)
    key: str = Field(primary_key=True)
    seq: int = Field(index=True)
    body: dict[str, Any] | None = Json(default=None)
