"""Saved calls of the bench, and the runs of them."""

from datetime import datetime
from typing import Any

from sqlmodel import Field, SQLModel

from tamarack.store.columns import Json, Moment, new_id


class SavedCall(SQLModel, table=True):
    """A call kept with what is expected of its answer; `body` is a `core.trying.bench.BenchCall` as JSON."""

    __tablename__ = "saved_call"

    id: str = Field(default_factory=new_id, primary_key=True)
    api: str = Field(index=True)
    version: str
    title: str
    body: dict[str, Any] = Json()
    made_at: datetime = Moment()
    made_by: str = ""


class SavedRun(SQLModel, table=True):
    """All saved calls of a version sent to an environment: what each was answered, by the call's id."""

    __tablename__ = "saved_run"

    id: str = Field(default_factory=new_id, primary_key=True)
    api: str = Field(index=True)
    version: str
    environment: str
    rollout: int = 0
    at: datetime = Moment()
    by: str = ""
    results: dict[str, Any] = Json()
