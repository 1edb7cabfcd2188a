"""Statements: when subscriptions were in force, amounts that were adjusted, and statements that were issued."""

from datetime import datetime
from decimal import Decimal
from typing import Any

from sqlalchemy import Column, Numeric, UniqueConstraint
from sqlmodel import Field, SQLModel

from tamarack.store.columns import Json, Moment


class SubscriptionPeriod(SQLModel, table=True):
    """A stretch in which a subscription was active on one plan; `last` is empty while it is."""

    __tablename__ = "subscription_period"

    id: int | None = Field(default=None, primary_key=True)
    subscription_id: str = Field(foreign_key="subscription.id", ondelete="CASCADE", index=True)
    plan: str
    first: datetime = Moment()
    last: datetime | None = Moment(default=None)


class StatementAdjustment(SQLModel, table=True):
    """An amount added to, or taken off, an organization's month."""

    __tablename__ = "statement_adjustment"

    id: int | None = Field(default=None, primary_key=True)
    organization_id: str = Field(foreign_key="organization.id", index=True)
    month: str
    words: str
    amount: Decimal = Field(sa_column=Column(Numeric(16, 3), nullable=False))
    currency: str
    made_by: str
    made_at: datetime = Moment()


class IssuedStatement(SQLModel, table=True):
    """A statement as it was issued: what is changed afterwards, prices or records, does not change it."""

    __tablename__ = "issued_statement"
    __table_args__ = (UniqueConstraint("organization_id", "month"),)

    id: int | None = Field(default=None, primary_key=True)
    organization_id: str = Field(foreign_key="organization.id", index=True)
    month: str
    body: dict[str, Any] = Json()
    issued_by: str
    issued_at: datetime = Moment()
