"""Nodes, and the tokens they join with."""

from datetime import datetime
from typing import Any

from sqlalchemy import BigInteger, Column
from sqlmodel import Field, SQLModel

from tamarack.store.columns import Json, Moment, Names, new_id


def _plain(default: str, kind: Any = None) -> Any:
    return Column(kind, nullable=False, server_default=default)


class Node(SQLModel, table=True):
    """One gateway program, as it last said of itself, and what it is asked to do."""

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
    without: int = Field(default=0, sa_column=_plain("0", BigInteger))
    """Calls it decided over without them since."""
    targets: list[dict[str, Any]] = Names()
    """How each target stands that something is known of: backend, target, state, why, calls under way."""

    version: str = Field(default="", sa_column_kwargs={"server_default": ""})
    standing: str = Field(default="serving", sa_column_kwargs={"server_default": "serving"})
    """What it says it does: serving, draining or stopped."""
    asked: str = Field(default="serving", sa_column_kwargs={"server_default": "serving"})
    """What it is asked to do."""
    calls_per_s: float = Field(default=0.0, sa_column_kwargs={"server_default": "0"})
    connections: int = Field(default=0, sa_column_kwargs={"server_default": "0"})
    memory_bytes: int = Field(default=0, sa_column=_plain("0", BigInteger))
    spool_bytes: int = Field(default=0, sa_column=_plain("0", BigInteger))
    clock_ms: float | None = None
    """By how much its clock is ahead of the control side's."""

    title: str = Field(default="", sa_column_kwargs={"server_default": ""})
    """What people call it; empty where that is its name, which stays, for records bear it."""
    labels: list[str] = Names()
    """What people tell it from others by, like `site=harbour`."""
    joined_at: datetime | None = Moment(default=None)
    """When it joined with a token; None for a node that reads the database itself."""
    credential: str | None = Field(default=None, unique=True)
    """The digest of what a joined node signs in with."""
    next_credential: str | None = Field(default=None, unique=True)
    """The digest of one that was handed out, and takes the other's place when it is first used."""
    new_credential_asked: bool = Field(default=False, sa_column_kwargs={"server_default": "false"})
    revoked_at: datetime | None = Moment(default=None)


class NodeSilence(SQLModel, table=True):
    """A time in which a node was not heard of, noted when it was heard of again. Nobody hears of a node that was ended
    either: whether that was meant is for people to say."""

    __tablename__ = "node_silence"

    id: int | None = Field(default=None, primary_key=True)
    node: str = Field(index=True)
    environment: str
    since: datetime = Moment()
    """When it was last heard of before."""
    until: datetime = Moment(index=True)


class JoinToken(SQLModel, table=True):
    """A token by which one node may join one environment, once and within an hour. Only its digest is kept."""

    __tablename__ = "join_token"

    id: str = Field(primary_key=True, default_factory=new_id)
    digest: str = Field(unique=True)
    environment: str
    labels: list[str] = Names()
    made_at: datetime = Moment()
    made_by: str
    expires_at: datetime = Moment()
    used_at: datetime | None = Moment(default=None)
    node: str = ""
    """The node that joined with it."""
    steps: list[dict[str, Any]] = Json(default_factory=list)
    """What happened with it so far: `at` (seconds since the epoch), `step`, and `problem` where one went wrong."""
