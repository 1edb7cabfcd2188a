"""Explorations that were saved, and boards that were made of them."""

from datetime import datetime
from typing import Any

from sqlmodel import Field, SQLModel

from tamarack.store.columns import Json, Moment, Names, new_id


class SavedExploration(SQLModel, table=True):
    """A question of the traffic that someone keeps: its title, and who else sees it by their role."""

    __tablename__ = "exploration"

    id: str = Field(default_factory=new_id, primary_key=True)
    title: str
    question: dict[str, Any] = Json()
    owner: str = Field(index=True)
    """The mail address of whoever saved it."""
    roles: list[str] = Names()
    """The roles of staff that see it too."""
    changed_at: datetime = Moment()


class BoardRow(SQLModel, table=True):
    """A board: its body is `core.traffic.board.Board`."""

    __tablename__ = "board"

    name: str = Field(primary_key=True)
    body: dict[str, Any] = Json()
    owner: str
    roles: list[str] = Names()
    changed_at: datetime = Moment()
