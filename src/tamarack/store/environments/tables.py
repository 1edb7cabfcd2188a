"""Environments."""

from datetime import datetime

from sqlmodel import Field, SQLModel

from tamarack.store.columns import Moment


class EnvironmentRow(SQLModel, table=True):
    """An environment. One that was removed stays known by name: rollouts and records bear it."""

    __tablename__ = "environment"

    name: str = Field(primary_key=True)
    place: int = 0
    """From 0, in the order of the work. Those that were removed have none that counts."""
    summary: str = ""
    mark: str = "ring"
    address: str = ""
    open_to_owners: bool = False
    on_portal: bool = False
    made_by: str = ""
    made_at: datetime = Moment()
    removed_at: datetime | None = Moment(default=None)
