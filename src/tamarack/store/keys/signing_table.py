"""The keys that Tamarack signs with."""

from datetime import datetime
from typing import Any

from sqlmodel import Field, SQLModel

from tamarack.store.columns import Json, Moment


class SigningKey(SQLModel, table=True):
    """One key pair: the private half sealed, the public half as JWK. The newest that is not retired signs."""

    __tablename__ = "signing_key"

    kid: str = Field(primary_key=True)
    sealed: str
    public: dict[str, Any] = Json()
    purpose: str = "signed-key"
    """What it signs: `signed-key`, or `token` of the sign-in service."""
    made_at: datetime = Moment()
    made_by: str = ""
    retired_at: datetime | None = Moment(default=None)
    """From then on nothing that it signed is accepted."""

    @property
    def algorithm(self) -> str:
        """What it signs by (RFC 7518, 3.1)."""
        return str(self.public.get("alg") or "Ed25519")
