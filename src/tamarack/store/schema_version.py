"""Whether a database needs anything before the programs start: a look that loads nothing heavy."""

from pathlib import Path

import psycopg

_VERSIONS = Path(__file__).parent / "migrations" / "versions"


def newest_version() -> str:
    """The newest migration's number, from its file's name."""
    return max(path.name.partition("_")[0] for path in _VERSIONS.glob("[0-9]*_*.py"))


def is_ready(address: str) -> bool:
    """Whether a database has the newest schema and someone who can sign in to the console."""
    with psycopg.connect(address, connect_timeout=5) as connection:
        try:
            row = connection.execute("SELECT version_num FROM alembic_version").fetchone()
            someone = connection.execute("SELECT 1 FROM staff LIMIT 1").fetchone()
        except psycopg.errors.UndefinedTable:
            return False
    return row is not None and row[0] == newest_version() and someone is not None
