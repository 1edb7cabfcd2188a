"""Use of fields by day."""

from datetime import date, datetime

from sqlalchemy import BigInteger, Column
from sqlmodel import Field, SQLModel

from tamarack.store.columns import Moment


class GraphFieldUse(SQLModel, table=True):
    """How many calls of one application asked for one field on one day (UTC)."""

    __tablename__ = "graph_field_use"

    day: date = Field(primary_key=True)
    environment: str = Field(primary_key=True)
    api: str = Field(primary_key=True)
    version: str = Field(primary_key=True)
    field: str = Field(primary_key=True)
    organization: str = Field(primary_key=True)
    application: str = Field(primary_key=True)
    calls: int = Field(sa_column=Column(BigInteger, nullable=False))
    last_at: datetime = Moment()
