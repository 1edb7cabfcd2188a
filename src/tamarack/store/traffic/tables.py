"""Calls and roll-ups. Both are filled by `store.traffic.recording`."""

from datetime import datetime

from sqlalchemy import BigInteger, Column, DateTime, Identity, Index, Integer, LargeBinary, UniqueConstraint
from sqlalchemy.dialects.postgresql import ARRAY
from sqlmodel import Field, SQLModel

from tamarack.core.traffic.rollup import Key
from tamarack.store.columns import Moment


class CallRow(SQLModel, table=True):
    """One call, in the partition of its day: the fields of `core.traffic.record.Record`, and the batch it came in."""

    __tablename__ = "call"
    __table_args__ = (
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
    end_user: str = Field(default="", sa_column_kwargs={"server_default": ""})
    cache: str = Field(default="", sa_column_kwargs={"server_default": ""})
    prompt_tokens: int = Field(default=0, sa_column=Column(BigInteger, nullable=False, server_default="0"))
    completion_tokens: int = Field(default=0, sa_column=Column(BigInteger, nullable=False, server_default="0"))
    stages_ns: list[int] = Field(
        default_factory=list, sa_column=Column(ARRAY(Integer), nullable=False, server_default="{}")
    )
    policy: str = Field(default="", sa_column_kwargs={"server_default": ""})
    note: str = Field(default="", sa_column_kwargs={"server_default": ""})
    model: str = Field(default="", sa_column_kwargs={"server_default": ""})
    model_served: str = Field(default="", sa_column_kwargs={"server_default": ""})
    cached_tokens: int = Field(default=0, sa_column=Column(BigInteger, nullable=False, server_default="0"))
    first_us: int = Field(default=0, sa_column=Column(BigInteger, nullable=False, server_default="0"))
    own_1: str = Field(default="", sa_column_kwargs={"server_default": ""})
    own_2: str = Field(default="", sa_column_kwargs={"server_default": ""})
    own_3: str = Field(default="", sa_column_kwargs={"server_default": ""})
    saved_tokens: int = Field(default=0, sa_column=Column(BigInteger, nullable=False, server_default="0"))
    saved_us: int = Field(default=0, sa_column=Column(BigInteger, nullable=False, server_default="0"))
    graph_operation: str = Field(default="", sa_column_kwargs={"server_default": ""})
    graph_depth: int = Field(default=0, sa_column=Column(BigInteger, nullable=False, server_default="0"))
    graph_cost: int = Field(default=0, sa_column=Column(BigInteger, nullable=False, server_default="0"))
    batch: int = Field(default=0, sa_column=Column(BigInteger, nullable=False, server_default="0"))
    """The number of the batch that it came in; 0 of calls from before batches had numbers."""


class CallBatch(SQLModel, table=True):
    """A batch of records that was taken in; one that comes again is recognised by its id.

    Numbers are given out under a lock held to the end of the transaction: who has read up to one has missed none
    below it.
    """

    __tablename__ = "call_batch"

    id: str = Field(primary_key=True)
    number: int = Field(default=None, sa_column=Column(BigInteger, Identity(always=True), nullable=False, unique=True))
    node: str
    calls: int
    at: datetime = Moment(index=True)
    first: datetime | None = Moment(default=None)
    """When its first call came, and its last; none of a batch that holds no calls, but use of quotas."""
    last: datetime | None = Moment(default=None)


class RollupKey(SQLModel, table=True):
    """One combination of fields that calls had in common; the rows of the roll-ups refer to it."""

    __tablename__ = "rollup_key"
    __table_args__ = (UniqueConstraint(*Key._fields, name="rollup_key_is_one"),)

    id: int | None = Field(default=None, primary_key=True)
    environment: str
    api: str
    version: str
    operation: str
    status: int
    reason: str
    organization: str
    application: str
    plan: str
    target: str
    cache: str
    model: str = Field(default="", sa_column_kwargs={"server_default": ""})


class _Rollup(SQLModel):
    """Totals of the calls of one key in one stretch. Histograms are packed by `core.traffic.histogram`."""

    start: datetime = Field(sa_type=DateTime(timezone=True), primary_key=True)
    key: int = Field(primary_key=True)
    calls: int = Field(sa_type=BigInteger)
    asked: int = Field(sa_type=BigInteger)
    held: int = Field(sa_type=BigInteger)
    marked: int = Field(sa_type=BigInteger)
    total_us: int = Field(sa_type=BigInteger)
    backend_us: int = Field(sa_type=BigInteger)
    held_us: int = Field(sa_type=BigInteger)
    request_bytes: int = Field(sa_type=BigInteger)
    response_bytes: int = Field(sa_type=BigInteger)
    prompt_tokens: int = Field(sa_type=BigInteger)
    completion_tokens: int = Field(sa_type=BigInteger)
    cached_tokens: int = Field(default=0, sa_type=BigInteger, sa_column_kwargs={"server_default": "0"})
    firsts: int = Field(default=0, sa_type=BigInteger, sa_column_kwargs={"server_default": "0"})
    first_us: int = Field(default=0, sa_type=BigInteger, sa_column_kwargs={"server_default": "0"})
    telling_us: int = Field(default=0, sa_type=BigInteger, sa_column_kwargs={"server_default": "0"})
    saved_tokens: int = Field(default=0, sa_type=BigInteger, sa_column_kwargs={"server_default": "0"})
    saved_us: int = Field(default=0, sa_type=BigInteger, sa_column_kwargs={"server_default": "0"})
    min_us: int | None = Field(sa_type=BigInteger, nullable=True)
    max_us: int | None = Field(sa_type=BigInteger, nullable=True)
    histogram: bytes = Field(sa_type=LargeBinary)
    backend_histogram: bytes = Field(sa_type=LargeBinary)
    gateway_histogram: bytes = Field(sa_type=LargeBinary)


class MinuteRollup(_Rollup, table=True):
    """Per minute, in the partition of its day."""

    __tablename__ = "rollup_minute"
    __table_args__ = ({"postgresql_partition_by": "RANGE (start)"},)


class TenMinutesRollup(_Rollup, table=True):
    """Per ten minutes."""

    __tablename__ = "rollup_ten_minutes"


class SixHoursRollup(_Rollup, table=True):
    """Per six hours."""

    __tablename__ = "rollup_six_hours"


class HourRollup(_Rollup, table=True):
    """Per hour."""

    __tablename__ = "rollup_hour"


class DayRollup(_Rollup, table=True):
    """Per day of UTC."""

    __tablename__ = "rollup_day"
