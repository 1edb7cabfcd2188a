"""Telling the nodes that something changed."""

from sqlalchemy import text
from sqlmodel import Session

CHANNEL = "tamarack"


def notify(session: Session) -> None:
    """Wake every node when this transaction is committed (PostgreSQL NOTIFY)."""
    session.connection().execute(text(f"NOTIFY {CHANNEL}"))
