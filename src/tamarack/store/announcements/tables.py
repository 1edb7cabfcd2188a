"""What the platform team tells developers: news for all, and the change log of each API."""

from datetime import datetime

from sqlmodel import Field, SQLModel

from tamarack.store.columns import Moment


class Announcement(SQLModel, table=True):
    """One entry. With an `api` it belongs to that API's change log; `readers` is everyone or subscribers."""

    id: int | None = Field(default=None, primary_key=True)
    api: str = Field(default="", index=True)
    version: str = ""
    title: str
    text: str
    readers: str = "everyone"
    made_at: datetime = Moment(index=True)
    made_by: str = ""
    mailed: int = 0
    """How many people were told by mail."""
