"""The draft: the configuration as it is being edited, a row per backend, API, product and cap.

Each row holds one of the core's models as JSON, so that what is edited, rolled out and written to files
has one definition.
"""

from datetime import datetime
from typing import Any

from sqlmodel import Field, SQLModel

from tamarack.store.columns import Json, Moment


class DraftItem(SQLModel, table=True):
    """One item of the draft. `kind` is backend, kind, api, product, cap or everywhere (with an empty name)."""

    __tablename__ = "draft_item"

    kind: str = Field(primary_key=True)
    name: str = Field(primary_key=True)
    body: dict[str, Any] = Json()
    revision: int = 1
    changed_at: datetime = Moment()
    changed_by: str = ""


class DraftChange(SQLModel, table=True):
    """One edit of the draft: what the item was and became, so that it can be undone."""

    __tablename__ = "draft_change"

    id: int | None = Field(default=None, primary_key=True)
    at: datetime = Moment(index=True)
    by: str
    kind: str
    name: str
    summary: str
    before: dict[str, Any] | None = Json(default=None)
    after: dict[str, Any] | None = Json(default=None)
    undone: bool = False
