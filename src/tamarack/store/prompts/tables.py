"""The log of prompts."""

from datetime import datetime

from sqlmodel import Field, SQLModel

from tamarack.store.columns import Json, Moment


class LoggedPrompt(SQLModel, table=True):
    """One call's prompt and answer, masked as its policy said when it was made."""

    __tablename__ = "logged_prompt"

    call: str = Field(primary_key=True)
    at: datetime = Moment(index=True)
    until: datetime = Moment(index=True)
    """When it is deleted."""
    policy: str
    environment: str
    api: str
    version: str
    operation: str
    organization: str
    application: str
    model: str
    status: int
    reason: str
    texts: list[list[str]] = Json()
    """The prompt's texts, each with whose it is."""
    question: str
    """The last of them that is a user's, by which prompts are listed and compared."""
    answer: str
    cut: bool
    """Whether texts were longer than what is kept."""
