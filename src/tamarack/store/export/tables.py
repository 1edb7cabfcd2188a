"""The steady export of records to an outside collector: where to, and how far it is."""

from datetime import datetime

from sqlalchemy import BigInteger
from sqlmodel import Field, SQLModel

from tamarack.store.columns import Moment


class Export(SQLModel, table=True):
    """There is one: number 1."""

    __tablename__ = "export"

    id: int = Field(default=1, primary_key=True)
    address: str = ""
    """Where the collector takes logs."""
    header: str = ""
    """A header field that carries a secret, and the secret's name in the store; both or neither."""
    secret: str = ""
    on: bool = False
    sent: int = Field(default=0, sa_type=BigInteger)
    """The number of the last batch that was taken."""
    calls: int = Field(default=0, sa_type=BigInteger)
    """How many calls were taken, all in all."""
    sent_at: datetime | None = Moment(default=None)
    tries: int = 0
    """How often the next request failed."""
    next_try_at: datetime | None = Moment(default=None)
    problem: str = ""
    changed_at: datetime = Moment()
