"""People who work in the console."""

from datetime import datetime

from sqlmodel import Field, SQLModel

from tamarack.store.columns import Moment, new_id


class Staff(SQLModel, table=True):
    """One person of the platform team. `role` is a key of `core.identity.permissions.STAFF_ROLES`."""

    id: str = Field(default_factory=new_id, primary_key=True)
    email: str = Field(unique=True)
    name: str
    role: str
    password_hash: str
    must_change_password: bool = Field(default=False, sa_column_kwargs={"server_default": "false"})
    """Set where someone else chose the password: its owner has to choose another before anything else."""
    active: bool = True
    session_epoch: int = 0
    """Raised to end all of a person's sessions at once."""
    made_at: datetime = Moment()
    seen_at: datetime | None = Moment(default=None)
