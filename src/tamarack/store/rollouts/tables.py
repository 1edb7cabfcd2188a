"""Rollouts, and the nodes that take them up."""

from datetime import datetime
from typing import Any

from sqlalchemy import BigInteger, Column
from sqlmodel import Field, SQLModel

from tamarack.store.columns import Json, Moment, Names


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


class Node(SQLModel, table=True):
    """One gateway program, as it last said of itself."""

    name: str = Field(primary_key=True)
    environment: str
    address: str
    rollout: int = 0
    taken_up_at: datetime | None = Moment(default=None)
    feed: int = 0
    started_at: datetime = Moment()
    seen_at: datetime = Moment()
    problem: str = ""
    counting: str = Field(default="", sa_column_kwargs={"server_default": ""})
    """How it counts limits: by itself, with all nodes, or by itself meanwhile."""
    switched: int = Field(default=0, sa_column_kwargs={"server_default": "0"})
    """How often the shared counters went away since it started."""
    without: int = Field(default=0, sa_column=Column(BigInteger, nullable=False, server_default="0"))
    """Calls it decided over without them since."""
    targets: list[dict[str, Any]] = Names()
    """How each target stands that something is known of: backend, target, state, why, calls under way."""


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
