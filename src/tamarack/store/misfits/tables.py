"""Misfits by day, operation and place: how many calls, and the newest of them."""

from datetime import date, datetime

from sqlalchemy import BigInteger, Column, Index
from sqlmodel import Field, SQLModel

from tamarack.store.columns import Moment


class MisfitSeen(SQLModel, table=True):
    """One thing that calls of an operation did not fit on one day (UTC)."""

    __tablename__ = "misfit"
    __table_args__ = (Index("ix_misfit_operation", "environment", "api", "version", "day"),)

    key: str = Field(primary_key=True)
    """A digest of all that tells it from others, for its texts may be longer than an index takes."""
    day: date = Field(index=True)
    environment: str
    api: str
    version: str
    operation: str
    side: str
    place: str
    field: str
    words: str
    undescribed: bool
    passed: int = Field(sa_column=Column(BigInteger, nullable=False))
    refused: int = Field(sa_column=Column(BigInteger, nullable=False))
    last_at: datetime = Moment()
    last_call: str
