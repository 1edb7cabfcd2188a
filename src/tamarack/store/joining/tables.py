"""Joining: requests of people who signed up, and links sent by mail."""

from datetime import datetime

from sqlmodel import Field, SQLModel

from tamarack.store.columns import Json, Moment, new_id


class JoinRequest(SQLModel, table=True):
    """Someone who signed up; `state` is unconfirmed, waiting, joined or declined.

    `organization_id` is empty where the organization they named is not known: then staff decide.
    """

    __tablename__ = "join_request"

    id: str = Field(default_factory=new_id, primary_key=True)
    email: str = Field(index=True)
    name: str
    password_hash: str
    organization: str
    """What they called their organization."""
    organization_id: str | None = Field(default=None, foreign_key="organization.id", index=True)
    message: str = ""
    state: str = Field(default="unconfirmed", index=True)
    made_at: datetime = Moment()
    decided_at: datetime | None = Moment(default=None)
    decided_by: str = ""
    reason: str = ""


class JoinAsk(SQLModel, table=True):
    """What a stranger asked for and nobody answered yet.

    `purpose` is sign-up or reset; of end users user-sign-up or user-reset.
    """

    __tablename__ = "join_ask"

    id: int | None = Field(default=None, primary_key=True)
    purpose: str
    email: str
    said: dict[str, str] = Json()
    asked_at: datetime = Moment()


class MailLink(SQLModel, table=True):
    """A link sent by mail, good once and for a time. Only the digest of its token is kept.

    `purpose` is confirm (of a join request), invite (into an organization) or reset (of a password); of end
    users user-sign-up and user-invite (`subject` is their directory, `made_by` their name) or user-reset.
    """

    __tablename__ = "mail_link"

    digest: str = Field(primary_key=True)
    purpose: str
    subject: str
    """The join request's id, or the person's."""
    email: str = Field(index=True)
    organization_id: str | None = Field(default=None, foreign_key="organization.id", index=True)
    role: str = ""
    made_at: datetime = Moment()
    made_by: str = ""
    expires_at: datetime = Moment(index=True)
    used_at: datetime | None = Moment(default=None)
