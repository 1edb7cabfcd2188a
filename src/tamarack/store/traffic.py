"""Calls and roll-ups. Both are filled by COPY and upsert from `store.recording`."""

from datetime import datetime

from sqlalchemy import BigInteger, Column, DateTime, Index, Integer
from sqlalchemy.dialects.postgresql import ARRAY
from sqlmodel import Field, SQLModel

from tamarack.store.columns import Moment


class CallRow(SQLModel, table=True):
    """One call, in the partition of its day. The fields are those of `core.traffic.record.Record`."""

    __tablename__ = "call"
    __table_args__ = (
        Index("call_at", "at"),
        Index("call_application_at", "application", "at"),
        Index("call_reason_at", "reason", "at", postgresql_where="reason <> ''"),
        {"postgresql_partition_by": "RANGE (at)"},
    )

    at: datetime = Field(sa_column=Column(DateTime(timezone=True), primary_key=True))
    id: str = Field(primary_key=True)
    total_us: int = Field(sa_column=Column(BigInteger, nullable=False))
    backend_us: int = Field(sa_column=Column(BigInteger, nullable=False))
    environment: str
    node: str
    rollout: int
    api: str
    version: str
    operation: str
    method: str
    path: str
    status: int
    reason: str
    request_bytes: int = Field(sa_column=Column(BigInteger, nullable=False))
    response_bytes: int = Field(sa_column=Column(BigInteger, nullable=False))
    organization: str
    application: str
    subscription: str
    plan: str
    credential: str
    address: str
    agent: str
    target: str
    held_us: int = Field(default=0, sa_column=Column(BigInteger, nullable=False, server_default="0"))
    mark: str = Field(default="", sa_column_kwargs={"server_default": ""})


class CallBatch(SQLModel, table=True):
    """A batch of records that was taken in; one that comes again is recognised by its id."""

    __tablename__ = "call_batch"

    id: str = Field(primary_key=True)
    node: str
    calls: int
    at: datetime = Moment(index=True)


class RollupRow(SQLModel, table=True):
    """Totals of the calls of one key. The histogram is two arrays of one length: buckets and counts."""

    __tablename__ = "rollup"

    grain: str = Field(primary_key=True)
    start: datetime = Field(sa_column=Column(DateTime(timezone=True), primary_key=True))
    environment: str = Field(primary_key=True)
    api: str = Field(primary_key=True)
    version: str = Field(primary_key=True)
    operation: str = Field(primary_key=True)
    status: int = Field(primary_key=True)
    reason: str = Field(primary_key=True)
    organization: str = Field(primary_key=True)
    application: str = Field(primary_key=True)
    plan: str = Field(primary_key=True)
    target: str = Field(primary_key=True)
    calls: int = Field(sa_column=Column(BigInteger, nullable=False))
    total_us: int = Field(sa_column=Column(BigInteger, nullable=False))
    backend_us: int = Field(sa_column=Column(BigInteger, nullable=False))
    request_bytes: int = Field(sa_column=Column(BigInteger, nullable=False))
    response_bytes: int = Field(sa_column=Column(BigInteger, nullable=False))
    held: int = Field(default=0, sa_column=Column(BigInteger, nullable=False, server_default="0"))
    held_us: int = Field(default=0, sa_column=Column(BigInteger, nullable=False, server_default="0"))
    marked: int = Field(default=0, sa_column=Column(BigInteger, nullable=False, server_default="0"))
    buckets: list[int] = Field(sa_column=Column(ARRAY(Integer), nullable=False))
    counts: list[int] = Field(sa_column=Column(ARRAY(BigInteger), nullable=False))
