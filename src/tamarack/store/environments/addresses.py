"""Where callers reach an environment."""

from sqlmodel import Session, col, select

from tamarack.settings import Settings
from tamarack.store.environments.tables import EnvironmentRow
from tamarack.store.nodes.tables import Node


def reached_at(session: Session, settings: Settings, environment: str) -> str:
    """The address that callers of an environment use: what people wrote of it, or what the settings say, or that of a
    node. Empty where nothing is known yet. Without a slash at its end."""
    row = session.get(EnvironmentRow, environment)
    said = (row.address if row is not None else "") or settings.gateway_url(environment)
    if said:
        return said
    newest = (
        select(Node.address)
        .where(Node.environment == environment, Node.address != "", col(Node.revoked_at).is_(None))
        .order_by(col(Node.started_at))
        .limit(1)
    )
    return (session.exec(newest).first() or "").rstrip("/")
