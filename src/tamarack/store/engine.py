"""The connection to PostgreSQL."""

from sqlalchemy import Engine
from sqlmodel import create_engine

_ARGUMENTS = {"connect_timeout": 5, "options": "-c jit=off"}


def make_engine(address: str, size: int = 8) -> Engine:
    """An engine on psycopg with a bounded pool that notices broken connections.

    Queries are not compiled by the server (jit): ours take milliseconds, and compiling them would take more.
    """
    url = address.replace("postgresql://", "postgresql+psycopg://", 1)
    return create_engine(url, pool_size=size, max_overflow=4, pool_pre_ping=True, connect_args=_ARGUMENTS)
