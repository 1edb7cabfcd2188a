"""Writing and reading the audit log."""

from dataclasses import dataclass
from typing import Any

from sqlmodel import Session, col, select

from tamarack.store.audit.tables import AuditEntry


@dataclass(frozen=True, slots=True)
class Actor:
    """Who does something, through which door (console, portal, command line), from which address."""

    name: str
    door: str
    address: str = ""


COMMAND_LINE = Actor("command line", "command line")
WORKER = Actor("worker", "worker")


def record(session: Session, actor: Actor, action: str, subject: str, **details: Any) -> None:
    """Note a change or a look, in the transaction that makes it."""
    entry = AuditEntry(
        door=actor.door,
        actor=actor.name,
        action=action,
        subject=subject,
        address=actor.address,
        details=details,
    )
    session.add(entry)


def latest(session: Session, subject: str = "", before: int | None = None, most: int = 50) -> list[AuditEntry]:
    """The newest entries, of one subject or all; `before` is the id to page from."""
    query = select(AuditEntry).order_by(col(AuditEntry.id).desc()).limit(most)
    if subject:
        query = query.where(AuditEntry.subject == subject)
    if before is not None:
        query = query.where(col(AuditEntry.id) < before)
    return list(session.exec(query))
