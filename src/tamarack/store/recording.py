"""Taking in batches of records: single calls by COPY, roll-ups by upsert, both in one transaction.

A batch is known by its id; one that comes a second time changes nothing.
"""

from collections.abc import Iterable, Iterator, Sequence
from datetime import UTC, date, datetime, timedelta

import psycopg
from psycopg import sql

from tamarack.core.traffic.record import FIELDS, Record
from tamarack.core.traffic.rollup import Key, Totals, roll_up

_COLUMNS = ("at", *(field for field in FIELDS if field != "at"))
_NUMBERS = {"rollout": "int4", "status": "int4"}
_BIG = ("total_us", "backend_us", "request_bytes", "response_bytes", "held_us")
_TYPES = ["timestamptz" if c == "at" else _NUMBERS.get(c, "int8" if c in _BIG else "text") for c in _COLUMNS]
_PLACES = [FIELDS.index(column) for column in _COLUMNS]
_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)

_KEY_COLUMNS = Key._fields
_SUMS = ("calls", "total_us", "backend_us", "request_bytes", "response_bytes", "held", "held_us", "marked")
_ROLLUP_COLUMNS = (*_KEY_COLUMNS, *_SUMS, "buckets", "counts")

_UPSERT = f"""
INSERT INTO rollup ({", ".join(_ROLLUP_COLUMNS)})
VALUES ({", ".join(["%s"] * len(_ROLLUP_COLUMNS))})
ON CONFLICT ({", ".join(_KEY_COLUMNS)}) DO UPDATE SET
{", ".join(f"{column} = rollup.{column} + excluded.{column}" for column in _SUMS)},
(buckets, counts) = (
  SELECT array_agg(bucket ORDER BY bucket), array_agg(many ORDER BY bucket) FROM (
    SELECT bucket, sum(many)::bigint AS many FROM (
      SELECT unnest(rollup.buckets) AS bucket, unnest(rollup.counts) AS many
      UNION ALL SELECT unnest(excluded.buckets), unnest(excluded.counts)
    ) AS both_sides GROUP BY bucket
  ) AS merged
)
"""  # noqa: S608 - made of this file's own constants


def make_partitions(connection: psycopg.Connection, first: date, last: date) -> None:
    """Make the partitions of calls for some days, where they are missing."""
    day = first
    while day <= last:
        after = day + timedelta(days=1)
        connection.execute(
            sql.SQL('CREATE TABLE IF NOT EXISTS {} PARTITION OF "call" FOR VALUES FROM ({}) TO ({})').format(
                sql.Identifier(f"call_{day:%Y%m%d}"),
                sql.Literal(f"{day.isoformat()} 00:00:00+00"),
                sql.Literal(f"{after.isoformat()} 00:00:00+00"),
            )
        )
        day = after


def drop_partitions(connection: psycopg.Connection, before: date) -> list[str]:
    """Drop the partitions of the days before one; returns their names."""
    rows = connection.execute(
        "SELECT c.relname FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid"
        " WHERE i.inhparent = '\"call\"'::regclass AND c.relname < %s",
        (f"call_{before:%Y%m%d}",),
    ).fetchall()
    for (name,) in rows:
        connection.execute(sql.SQL("DROP TABLE {}").format(sql.Identifier(name)))
    return sorted(name for (name,) in rows)


def take_in(connection: psycopg.Connection, batch: str, node: str, records: Sequence[Record]) -> bool:
    """Take in a batch; False where it was taken in before. Partitions are made as needed."""
    if records:
        days = {datetime.fromtimestamp(record.at / 1_000_000, UTC).date() for record in records}
        for day in days:
            make_partitions(connection, day, day)
    with connection.transaction():
        row = connection.execute(
            "INSERT INTO call_batch (id, node, calls, at) VALUES (%s, %s, %s, now())"
            " ON CONFLICT (id) DO NOTHING RETURNING id",
            (batch, node, len(records)),
        ).fetchone()
        if row is None:
            return False
        copy_calls(connection, records)
        upsert_rollups(connection, roll_up(records))
    return True


def copy_calls(connection: psycopg.Connection, records: Iterable[Record]) -> None:
    """Write single calls, by binary COPY."""
    statement = f'COPY "call" ({", ".join(_COLUMNS)}) FROM STDIN (FORMAT BINARY)'
    with connection.cursor() as cursor, cursor.copy(statement) as copy:
        copy.set_types(_TYPES)
        for record in records:
            row: list[object] = [record[place] for place in _PLACES]
            row[0] = _EPOCH + timedelta(microseconds=record.at)
            copy.write_row(row)


def upsert_rollups(connection: psycopg.Connection, totals: dict[Key, Totals]) -> None:
    """Add totals to the roll-ups. Keys go in order, so that two writers cannot wait for each other."""
    rows = [_row(key, total) for key, total in sorted(totals.items())]
    if rows:
        with connection.cursor() as cursor:
            cursor.executemany(_UPSERT, rows)


def copy_rollups(connection: psycopg.Connection, totals: dict[Key, Totals]) -> None:
    """Write totals of spans that have no roll-ups yet; many times faster than adding to them."""
    columns = ", ".join(_ROLLUP_COLUMNS)
    with connection.cursor() as cursor, cursor.copy(f"COPY rollup ({columns}) FROM STDIN") as copy:
        for key, total in sorted(totals.items()):
            copy.write_row(_row(key, total))


def _row(key: Key, total: Totals) -> tuple[object, ...]:
    buckets = sorted(total.histogram)
    return (
        key.grain,
        datetime.fromtimestamp(key.start, UTC),
        *key[2:],
        *(getattr(total, field) for field in _SUMS),
        buckets,
        [total.histogram[bucket] for bucket in buckets],
    )


def rebuild_rollups(connection: psycopg.Connection, first: datetime, last: datetime) -> int:
    """Make the roll-ups of a span of whole hours anew from the single calls; returns how many calls."""
    with connection.transaction():
        connection.execute("DELETE FROM rollup WHERE start >= %s AND start < %s", (first, last))
        read = _Reading(connection, first, last)
        copy_rollups(connection, roll_up(read.records()))
    return read.many


class _Reading:
    """Single calls read in bounded pieces, and counted."""

    def __init__(self, connection: psycopg.Connection, first: datetime, last: datetime) -> None:
        self.many = 0
        self._connection = connection
        self._span = (first, last)

    def records(self) -> Iterator[Record]:
        query = f'SELECT {", ".join(_COLUMNS)} FROM "call" WHERE at >= %s AND at < %s'  # noqa: S608
        with self._connection.cursor(name="rebuild") as cursor:
            cursor.itersize = 20_000
            cursor.execute(query.encode(), self._span)
            for row in cursor:
                values = dict(zip(_COLUMNS, row, strict=True))
                values["at"] = round((row[0] - _EPOCH) / timedelta(microseconds=1))
                self.many += 1
                yield Record(**values)
