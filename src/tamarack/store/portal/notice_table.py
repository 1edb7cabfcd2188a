"""Notices: what an organization is told in the portal."""

from datetime import datetime

from sqlmodel import Field, SQLModel

from tamarack.store.columns import Moment


class Notice(SQLModel, table=True):
    """Something an organization should know; of one of its applications where `application_id` is set."""

    id: int | None = Field(default=None, primary_key=True)
    organization_id: str = Field(foreign_key="organization.id", index=True)
    application_id: str | None = Field(default=None, foreign_key="application.id", index=True)
    title: str
    text: str
    made_at: datetime = Moment(index=True)
