"""What was used of quotas, as the nodes' batches tell it: it outlasts nodes and counters."""

from datetime import datetime

from sqlalchemy import BigInteger, Column, DateTime
from sqlmodel import Field, SQLModel

from tamarack.store.columns import Moment


class QuotaUsed(SQLModel, table=True):
    """The calls counted for one key in one stretch of a quota."""

    __tablename__ = "quota_used"

    environment: str = Field(primary_key=True)
    quota: str = Field(primary_key=True)
    """The limiter's id: `@quota/` and the product, or a placement and a policy's name."""
    key: str = Field(primary_key=True)
    start: datetime = Field(sa_column=Column(DateTime(timezone=True), primary_key=True))
    ends: datetime = Field(sa_column=Column(DateTime(timezone=True), nullable=False, index=True))
    calls: int = Field(sa_column=Column(BigInteger, nullable=False))
    allowed: int = Field(sa_column=Column(BigInteger, nullable=False))
    told: int = 0
    """The highest mark, in percent, that people were told of."""
    changed_at: datetime = Moment()
