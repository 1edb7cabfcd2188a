"""The connection to PostgreSQL."""

from collections.abc import Mapping
from typing import Any

from psycopg.rows import namedtuple_row
from sqlalchemy import Engine, text
from sqlmodel import Session, create_engine

_ARGUMENTS = {"connect_timeout": 10, "options": "-c jit=off"}


def make_engine(address: str, size: int = 8) -> Engine:
    """An engine on psycopg with a bounded pool that notices broken connections.

    Queries are not compiled by the server (jit): ours take milliseconds, and compiling them would take more.
    """
    url = address.replace("postgresql://", "postgresql+psycopg://", 1)
    return create_engine(
        url,
        pool_size=size,
        max_overflow=4,
        pool_pre_ping=True,
        connect_args=_ARGUMENTS,
        hide_parameters=True,  # an error that is logged shows none of what people typed
    )


def fetch_binary(session: Session, query: str, values: Mapping[str, Any]) -> list[Any]:
    """The rows of a query with `:names`, sent by the server in binary: histograms are half as long as in text.

    SQLAlchemy has no word for it, so the session's connection is asked itself.
    """
    connection = session.connection()
    driver = connection.connection.driver_connection
    assert driver is not None
    said = str(text(query).compile(dialect=connection.dialect))
    with driver.cursor(binary=True, row_factory=namedtuple_row) as cursor:
        found: list[Any] = cursor.execute(said, values).fetchall()
    return found
