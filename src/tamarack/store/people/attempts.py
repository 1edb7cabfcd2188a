"""Failed sign-ins, counted so that guessing is slowed."""

from datetime import datetime

from sqlmodel import Field, SQLModel

from tamarack.store.columns import Moment


class SignInAttempt(SQLModel, table=True):
    """A failed sign-in at a door (console or portal), by account and address."""

    __tablename__ = "sign_in_attempt"

    id: int | None = Field(default=None, primary_key=True)
    door: str
    account: str = Field(index=True)
    address: str = Field(index=True)
    at: datetime = Moment(index=True)
