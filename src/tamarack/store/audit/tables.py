"""The audit log: who changed or looked at what, and when."""

from datetime import datetime
from typing import Any

from sqlmodel import Field, SQLModel

from tamarack.store.columns import Json, Moment


class AuditEntry(SQLModel, table=True):
    """One change or look. `actor` is an e-mail address, or `command line`; `door` where it came in."""

    __tablename__ = "audit_entry"

    id: int | None = Field(default=None, primary_key=True)
    at: datetime = Moment(index=True)
    door: str
    actor: str
    action: str
    subject: str
    address: str = ""
    details: dict[str, Any] = Json(default_factory=dict)
