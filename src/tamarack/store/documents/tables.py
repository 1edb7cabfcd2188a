"""Documents by the SHA-256 of their text, and what reading each as OpenAPI found."""

from datetime import datetime
from typing import Any

from sqlmodel import Field, SQLModel

from tamarack.store.columns import Json, Moment


class Document(SQLModel, table=True):
    """An OpenAPI document as it was brought in, or a page in Markdown, known by the SHA-256 of its text."""

    sha256: str = Field(primary_key=True)
    text: str
    made_at: datetime = Moment()
    kept: bool = True
    """Whether something refers to it, or did; one that was only looked at is dropped after a while."""


class DocumentReading(SQLModel, table=True):
    """Reading a document as OpenAPI: that it is asked for, how far it is, and what came of it.

    `state` is waiting, reading or read. A document that cannot be understood was read too: its problems say so.
    """

    __tablename__ = "document_reading"

    sha256: str = Field(primary_key=True, foreign_key="document.sha256", ondelete="CASCADE")
    state: str = Field(default="waiting", index=True)
    step: str = ""
    """What is being done now, in words."""
    asked_at: datetime = Moment()
    begun_at: datetime | None = Moment(default=None)
    described: dict[str, Any] | None = Json(default=None)
    """The core's `Description`, without the document."""
    tree: str = ""
    """The document brought to 3.x, as JSON; empty where it could not be understood."""
