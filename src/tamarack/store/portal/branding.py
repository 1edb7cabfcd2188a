"""How the portal looks and what its front page says."""

from datetime import datetime
from typing import Any

from sqlmodel import Field, Session, SQLModel

from tamarack.core.portal.branding import Look
from tamarack.store.audit import log as auditing
from tamarack.store.audit.log import Actor
from tamarack.store.columns import Json, Moment, now

ONLY = 1


class Branding(SQLModel, table=True):
    """The one row that says it: the core's model as JSON."""

    id: int = Field(default=ONLY, primary_key=True)
    body: dict[str, Any] = Json()
    changed_at: datetime = Moment()
    changed_by: str = ""


def look_of(session: Session) -> Look:
    """The portal's look; the plain one where nothing was set."""
    row = session.get(Branding, ONLY)
    return Look.model_validate(row.body) if row is not None else Look()


def set_look(session: Session, actor: Actor, look: Look) -> None:
    """Give the portal another look; it shows from the next page on."""
    row = session.get(Branding, ONLY, with_for_update=True) or Branding(body={})
    row.body, row.changed_at, row.changed_by = look.model_dump(mode="json"), now(), actor.name
    session.add(row)
    auditing.record(session, actor, "change the portal's look", look.name)
