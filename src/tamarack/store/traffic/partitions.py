"""Tables that are kept in a partition for each day: calls, and the roll-ups per minute."""

from datetime import date, timedelta

import psycopg
from psycopg import sql

DAILY = ("call", "rollup_minute")


def _name(table: str, day: date) -> str:
    return f"{table}_{day:%Y%m%d}"


def is_partition(name: str) -> bool:
    """Whether a table is one of the partitions, which the worker makes and drops."""
    return any(name.startswith(f"{table}_2") for table in DAILY)


def has_partition(connection: psycopg.Connection, table: str, day: date) -> bool:
    """Whether a table has the partition of a day."""
    row = connection.execute("SELECT to_regclass(%s)", (f'"{_name(table, day)}"',)).fetchone()
    return row is not None and row[0] is not None


def make_partitions(connection: psycopg.Connection, first: date, last: date) -> None:
    """Make the partitions of some days, where they are missing."""
    day = first
    while day <= last:
        after = day + timedelta(days=1)
        for table in DAILY:
            connection.execute(
                sql.SQL("CREATE TABLE IF NOT EXISTS {} PARTITION OF {} FOR VALUES FROM ({}) TO ({})").format(
                    sql.Identifier(_name(table, day)),
                    sql.Identifier(table),
                    sql.Literal(f"{day.isoformat()} 00:00:00+00"),
                    sql.Literal(f"{after.isoformat()} 00:00:00+00"),
                )
            )
        day = after


def drop_partitions(connection: psycopg.Connection, table: str, before: date) -> list[str]:
    """Drop a table's partitions of the days before one; returns their names."""
    assert table in DAILY
    rows = connection.execute(
        "SELECT c.relname FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid"
        " WHERE i.inhparent = %s::regclass AND c.relname < %s",
        (f'"{table}"', _name(table, before)),
    ).fetchall()
    for (name,) in rows:
        connection.execute(sql.SQL("DROP TABLE {}").format(sql.Identifier(name)))
    return sorted(name for (name,) in rows)
