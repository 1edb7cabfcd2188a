"""Files that are made to be handed over: what is asked for, how far it is, and where it lies."""

from datetime import datetime
from typing import Any

from sqlalchemy import BigInteger
from sqlmodel import Field, SQLModel

from tamarack.store.columns import Json, Moment, new_id


class HandedOver(SQLModel, table=True):
    """One file: asked for by someone, made by the worker, kept for some days."""

    __tablename__ = "handed_over"

    id: str = Field(default_factory=new_id, primary_key=True)
    owner: str = Field(index=True)
    what: dict[str, Any] = Json()
    """`where` as texts, `first` and `last` (ISO 8601), `columns`, `names` (own or otel)."""
    form: str
    state: str = Field(default="waiting", index=True)
    """waiting, running, ready, failed, or stopped."""
    problem: str = ""
    rows: int = Field(default=0, sa_type=BigInteger)
    of: int = Field(default=0, sa_type=BigInteger)
    """How many rows there are to write, as counted when it was asked for."""
    size: int = Field(default=0, sa_type=BigInteger)
    """Bytes of the file."""
    asked_at: datetime = Moment(index=True)
    ended_at: datetime | None = Moment(default=None)
