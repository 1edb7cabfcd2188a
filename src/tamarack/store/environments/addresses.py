"""Where callers reach an environment."""

from sqlmodel import Session, col, select

from tamarack.settings import Settings
from tamarack.store.environments.tables import EnvironmentRow
from tamarack.store.nodes.tables import Node


def said_of(session: Session, settings: Settings, environment: str) -> str:
    """The address that an environment's nodes are told that callers use, and that tokens are made for: what people
    wrote of it, or what the settings say. Empty for neither. Without a slash at its end."""
    row = session.get(EnvironmentRow, environment)
    return (row.address if row is not None else "") or settings.gateway_url(environment)


def reached_at(session: Session, settings: Settings, environment: str) -> str:
    """Where a caller reaches an environment: `said_of` it, or a node's own address. Empty where nothing is known."""
    said = said_of(session, settings, environment)
    if said:
        return said
    newest = (
        select(Node.address)
        .where(Node.environment == environment, Node.address != "", col(Node.revoked_at).is_(None))
        .order_by(col(Node.started_at))
        .limit(1)
    )
    return (session.exec(newest).first() or "").rstrip("/")
