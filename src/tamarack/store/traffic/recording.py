"""Taking in batches of records: single calls by COPY, roll-ups merged, both in one transaction.

A batch is known by its id; one that comes a second time changes nothing.
"""

import struct
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

import psycopg

from tamarack.core.traffic.histogram import Histogram
from tamarack.core.traffic.record import FIELDS, Record
from tamarack.core.traffic.rollup import GRAINS, Cell, Key, add_cell, roll_up
from tamarack.core.traffic.totals import Totals
from tamarack.store.traffic.partitions import has_partition, make_partitions

_COLUMNS = ("at", *(field for field in FIELDS if field != "at"))
_NUMBERS = {"rollout": "int4", "status": "int4", "stages_ns": "bytea"}  # packed here as the server receives it
_BIG = ("total_us", "backend_us", "request_bytes", "response_bytes", "held_us", "prompt_tokens",
        "completion_tokens", "cached_tokens", "first_us", "saved_tokens", "saved_us",
        "graph_depth", "graph_cost")  # fmt: skip
_TYPES = [
    *("timestamptz" if c == "at" else _NUMBERS.get(c, "int8" if c in _BIG else "text") for c in _COLUMNS),
    "int8",
]
_PLACES = [FIELDS.index(column) for column in _COLUMNS]
_STAGES = _COLUMNS.index("stages_ns")
_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)
_MOST_STAGE_NS = 2**31 - 1
_INT4 = 23
_EMPTY_ARRAY = struct.pack(">3i", 0, 0, _INT4)

_SUMS = (
    "calls", "asked", "held", "marked", "total_us", "backend_us", "held_us", "request_bytes", "response_bytes",
    "prompt_tokens", "completion_tokens", "cached_tokens", "firsts", "first_us", "telling_us",
    "saved_tokens", "saved_us",
)  # fmt: skip
_ENDS = ("min_us", "max_us")
_HISTOGRAMS = ("histogram", "backend_histogram", "gateway_histogram")
_ROLLUP_COLUMNS = ("start", "key", *_SUMS, *_ENDS, *_HISTOGRAMS)
_LISTED = ", ".join(_ROLLUP_COLUMNS)
_ROLLUP_TYPES = ("timestamptz", "int4", *("int8" for _ in (*_SUMS, *_ENDS)), *("bytea" for _ in _HISTOGRAMS))
_LOCK = 6_271_350
"""The number of the lock under which batches are taken in and numbered."""


@dataclass(frozen=True, slots=True)
class Batch:
    """Records that a node wrote together, under an id of their own."""

    id: str
    node: str
    records: Sequence[Record]


class KeyIds:
    """The ids of the roll-ups' keys, remembered: a node's calls fall on the same few hundred again and again."""

    MOST = 100_000

    def __init__(self) -> None:
        self._known: dict[Key, int] = {}

    def of(self, connection: psycopg.Connection, keys: Iterable[Key]) -> Mapping[Key, int]:
        """The ids of some keys, given out where they are new. Not within a transaction that may be undone."""
        missing = sorted({key for key in keys if key not in self._known})
        if missing:
            if len(self._known) + len(missing) > self.MOST:
                self._known.clear()
                return self.of(connection, keys)
            columns = ", ".join(Key._fields)
            types = [f"%s::{'int4' if name == 'status' else 'text'}[]" for name in Key._fields]
            given = [list(column) for column in zip(*missing, strict=True)]
            connection.execute(
                f"INSERT INTO rollup_key ({columns}) SELECT * FROM unnest({', '.join(types)})"  # noqa: S608
                " ON CONFLICT DO NOTHING",
                given,
            )
            rows = connection.execute(
                f"SELECT id, {columns} FROM rollup_key WHERE ({columns}) IN"  # noqa: S608
                f" (SELECT * FROM unnest({', '.join(types)}))",
                given,
            )
            self._known |= {Key(*row[1:]): row[0] for row in rows}
        return self._known


def take_in(connection: psycopg.Connection, batches: Sequence[Batch], ids: KeyIds | None = None) -> int:
    """Take in batches, all or none; returns the calls of those that had not been taken in before.

    The connection commits by itself. Partitions and keys are made as needed.
    """
    for day in {_EPOCH.date() + timedelta(days=r.at // 86_400_000_000) for batch in batches for r in batch.records}:
        make_partitions(connection, day, day)
    ids = ids if ids is not None else KeyIds()
    cells = roll_up(record for batch in batches for record in batch.records)
    known = ids.of(connection, {cell.key for cell in cells})
    with connection.transaction():
        connection.execute("SELECT pg_advisory_xact_lock(%s)", (_LOCK,))
        numbers = _number(connection, batches)
        new = [batch for batch in batches if batch.id in numbers]
        if not new:
            return 0
        copy_calls(connection, ((record, numbers[batch.id]) for batch in new for record in batch.records))
        if len(new) < len(batches):
            cells = roll_up(record for batch in new for record in batch.records)
        merge_rollups(connection, cells, known)
    return sum(len(batch.records) for batch in new)


def _number(connection: psycopg.Connection, batches: Sequence[Batch]) -> dict[str, int]:
    """Note the batches; returns the numbers of those that are new."""
    with connection.cursor() as cursor:
        numbers = {}
        for batch in batches:
            times = [record.at for record in batch.records]
            cursor.execute(
                "INSERT INTO call_batch (id, node, calls, at, first, last) VALUES (%s, %s, %s, now(), %s, %s)"
                " ON CONFLICT (id) DO NOTHING RETURNING number",
                (batch.id, batch.node, len(times), _moment(min(times, default=0)), _moment(max(times, default=0))),
            )
            row = cursor.fetchone()
            if row is not None:
                numbers[batch.id] = int(row[0])
    return numbers


def _moment(microseconds: int) -> datetime:
    return _EPOCH + timedelta(microseconds=microseconds)


def copy_calls(connection: psycopg.Connection, calls: Iterable[tuple[Record, int]]) -> None:
    """Write single calls with the numbers of their batches, by binary COPY."""
    statement = f'COPY "call" ({", ".join(_COLUMNS)}, batch) FROM STDIN (FORMAT BINARY)'
    with connection.cursor() as cursor, cursor.copy(statement) as copy:
        copy.set_types(_TYPES)
        for record, number in calls:
            row: list[object] = [record[place] for place in _PLACES]
            row[0] = _EPOCH + timedelta(microseconds=record.at)
            row[_STAGES] = _array(record.stages_ns)
            row.append(number)
            copy.write_row(row)


def _array(numbers: Sequence[int]) -> bytes:
    """An array of int4 as PostgreSQL receives it in binary: dimensions, no nulls, the element's type, and each with its
    length. Written out, for it is done for every call."""
    many = len(numbers)
    if not many:
        return _EMPTY_ARRAY
    parts = [1, 0, _INT4, many, 1]
    for number in numbers:
        parts += (4, min(number, _MOST_STAGE_NS))
    return struct.pack(f">{len(parts)}i", *parts)


def merge_rollups(connection: psycopg.Connection, cells: Mapping[Cell, Totals], known: Mapping[Key, int]) -> None:
    """Add totals to the roll-ups, within a transaction that holds the lock: read, merged by the core, written."""
    for grain in GRAINS:
        mine = {(_moment(cell.start * 1_000_000), known[cell.key]): totals
                for cell, totals in cells.items() if cell.grain == grain}  # fmt: skip
        if not mine:
            continue
        starts, keys = zip(*sorted(mine), strict=True)
        rows = connection.execute(
            f"SELECT {', '.join(_ROLLUP_COLUMNS)} FROM rollup_{grain} WHERE start = ANY(%s) AND (start, key) IN"  # noqa: S608
            " (SELECT * FROM unnest(%s::timestamptz[], %s::int4[]))",
            (sorted(set(starts)), list(starts), list(keys)),
        )
        for row in rows:
            mine[row[0], row[1]].merge(_totals(row))
        connection.execute("CREATE TEMP TABLE IF NOT EXISTS coming (LIKE rollup_hour) ON COMMIT DELETE ROWS")
        connection.execute("DELETE FROM coming")
        with connection.cursor() as cursor, cursor.copy(f"COPY coming ({_LISTED}) FROM STDIN (FORMAT BINARY)") as copy:
            copy.set_types(_ROLLUP_TYPES)
            for (start, key), totals in sorted(mine.items()):
                copy.write_row(_row(start, key, totals))
        connection.execute(
            f"INSERT INTO rollup_{grain} ({_LISTED}) SELECT {_LISTED} FROM coming"  # noqa: S608
            " ON CONFLICT (start, key) DO UPDATE SET "
            + ", ".join(f"{column} = excluded.{column}" for column in _ROLLUP_COLUMNS[2:])
        )


def copy_rollups(connection: psycopg.Connection, cells: Mapping[Cell, Totals], known: Mapping[Key, int]) -> None:
    """Write totals of spans that have no roll-ups yet; many times faster than merging into them."""
    for grain in GRAINS:
        statement = f"COPY rollup_{grain} ({', '.join(_ROLLUP_COLUMNS)}) FROM STDIN (FORMAT BINARY)"
        with connection.cursor() as cursor, cursor.copy(statement) as copy:
            copy.set_types(_ROLLUP_TYPES)
            for cell, totals in cells.items():
                if cell.grain == grain:
                    copy.write_row(_row(_moment(cell.start * 1_000_000), known[cell.key], totals))


def load_rollups(
    connection: psycopg.Connection, cells: Mapping[Cell, Totals], known: Mapping[Key, int], until: datetime
) -> None:
    """Write the totals of calls from before a moment, while later ones may be taken in, within a transaction.

    Spans that were over by then are copied; the roll-ups that reach beyond it are merged with what has come since.
    """
    connection.execute("SELECT pg_advisory_xact_lock(%s)", (_LOCK,))
    edge = until.timestamp()
    over = {cell: totals for cell, totals in cells.items() if cell.start + GRAINS[cell.grain] <= edge}
    copy_rollups(connection, over, known)
    merge_rollups(connection, {cell: totals for cell, totals in cells.items() if cell not in over}, known)


def _row(start: datetime, key: int, totals: Totals) -> tuple[object, ...]:
    return (
        start,
        key,
        *(getattr(totals, name) for name in _SUMS),
        totals.min_us,
        totals.max_us,
        *(getattr(totals, name).packed() for name in _HISTOGRAMS),
    )


def _totals(row: Sequence[Any]) -> Totals:
    values: dict[str, Any] = dict(zip(_ROLLUP_COLUMNS[2:], row[2:], strict=True))
    return Totals(**values | {name: Histogram.unpacked(values[name]) for name in _HISTOGRAMS})


def rebuild_rollups(connection: psycopg.Connection, first: datetime, last: datetime) -> int:
    """Make the roll-ups of a span of whole days (of UTC) anew from the single calls; returns how many calls.

    Goes day by day, so that memory is bounded; nothing is taken in meanwhile.
    """
    many, ids, day = 0, KeyIds(), timedelta(days=1)
    while first < last:
        after = first + day
        if not has_partition(connection, "call", first.date()):
            first = after  # its calls were dropped, or there were none: what the roll-ups hold is all there is
            continue
        with connection.transaction():
            connection.execute("SELECT pg_advisory_xact_lock(%s)", (_LOCK,))
            for grain in GRAINS:
                connection.execute(f"DELETE FROM rollup_{grain} WHERE start >= %s AND start < %s", (first, after))  # noqa: S608
            cells: dict[Cell, Totals] = {}
            for piece in _pieces(connection, first, after):
                many += len(piece)
                for cell, totals in roll_up(piece).items():
                    add_cell(cells, cell, totals)
            copy_rollups(connection, cells, ids.of(connection, {cell.key for cell in cells}))
        first = after
    return many


def _pieces(
    connection: psycopg.Connection, first: datetime, last: datetime, most: int = 20_000
) -> Iterator[list[Record]]:
    """Single calls of a span, read in bounded pieces."""
    query = f'SELECT {", ".join(_COLUMNS)} FROM "call" WHERE at >= %s AND at < %s'  # noqa: S608
    with connection.cursor(name="rebuild") as cursor:
        cursor.itersize = most
        cursor.execute(query.encode(), (first, last))
        while rows := cursor.fetchmany(most):
            yield [_record(row) for row in rows]


def _record(row: Sequence[Any]) -> Record:
    values = dict(zip(_COLUMNS, row, strict=True))
    values["at"] = round((row[0] - _EPOCH) / timedelta(microseconds=1))
    return Record(**values)
