"""Mail to people, kept until it is handed over."""

from datetime import datetime

from sqlmodel import Field, SQLModel

from tamarack.store.columns import Moment


class Mail(SQLModel, table=True):
    """One mail to one person. It waits here until a mail server has taken it."""

    id: int | None = Field(default=None, primary_key=True)
    to: str = Field(index=True)
    subject: str
    text: str
    made_at: datetime = Moment()
    sent_at: datetime | None = Moment(default=None, index=True)
    tries: int = 0
    next_try_at: datetime = Moment(index=True)
    problem: str = ""
    secret: bool = Field(default=False, sa_column_kwargs={"server_default": "false"})
    """Whether its text holds a link that lets someone in: then the text goes as soon as it was handed over."""
