"""Key sets of outside issuers, as they were last fetched."""

from datetime import datetime
from typing import Any

from sqlmodel import Field, SQLModel

from tamarack.store.columns import Json, Moment


class KeySet(SQLModel, table=True):
    """One key set by its address. `problem` says why the last try did not succeed; what was fetched before stays."""

    __tablename__ = "key_set"

    url: str = Field(primary_key=True)
    jwks: dict[str, Any] | None = Json(default=None)
    fetched_at: datetime | None = Moment(default=None)
    tried_at: datetime | None = Moment(default=None)
    problem: str = ""
