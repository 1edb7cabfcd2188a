"""What the portal's search looks through: one row for each API, operation and page of the live environment."""

from typing import Any

from sqlalchemy import Column, Computed, Index
from sqlalchemy.dialects.postgresql import TSVECTOR
from sqlmodel import Field, SQLModel

_WEIGHED = (
    "setweight(to_tsvector('english', title), 'A') || setweight(to_tsvector('english', summary), 'B')"
    " || setweight(to_tsvector('english', text), 'C')"
)


class CatalogueEntry(SQLModel, table=True):
    """`kind` is api, operation or page; `place` is the operation's call or the page's name."""

    __tablename__ = "catalogue_entry"
    __table_args__ = (Index("ix_catalogue_entry_words", "words", postgresql_using="gin"),)

    id: int | None = Field(default=None, primary_key=True)
    kind: str
    api: str = Field(index=True)
    version: str = ""
    place: str = ""
    title: str
    summary: str = ""
    text: str = ""
    words: Any = Field(default=None, sa_column=Column(TSVECTOR, Computed(_WEIGHED, persisted=True)))
