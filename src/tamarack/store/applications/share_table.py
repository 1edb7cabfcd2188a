"""With whom applications are shared."""

from datetime import datetime

from sqlmodel import Field, SQLModel

from tamarack.store.columns import Moment


class ApplicationShare(SQLModel, table=True):
    """A member who sees and looks after an application; leads see all of their organization's without one."""

    __tablename__ = "application_share"

    application_id: str = Field(foreign_key="application.id", primary_key=True, ondelete="CASCADE")
    person_id: str = Field(foreign_key="person.id", primary_key=True, index=True, ondelete="CASCADE")
    made_at: datetime = Moment()
    made_by: str = ""
