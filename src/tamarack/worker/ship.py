"""Shipping: batches of records from the nodes' spool folders into PostgreSQL."""

from collections.abc import Callable, Iterable, Iterator
from pathlib import Path

import orjson
import psycopg

from tamarack.core.traffic.record import Record, read_row
from tamarack.store.recording import Batch, KeyIds, take_in
from tamarack.store.tracing import INSERT_TRACE, trace_row

Log = Callable[[str], None]


def waiting(nodes: Path) -> list[Path]:
    """The batches that wait, oldest first for each node."""
    found = [*nodes.glob("*/spool/*.calls"), *nodes.glob("*/spool/*.traces")]
    return sorted(found, key=lambda path: path.name)


MOST_BYTES = 16_000_000
"""How much of the spool is taken in together, in bytes; one file may be more."""


def in_batches(paths: Iterable[Path]) -> Iterator[list[Path]]:
    """The files in pieces that are taken in together: what piled up while the database was away costs less so."""
    piece: list[Path] = []
    size = 0
    for path in paths:
        if path.suffix == ".traces":
            yield [path]
            continue
        more = path.stat().st_size
        if piece and size + more > MOST_BYTES:
            yield piece
            piece, size = [], 0
        piece.append(path)
        size += more
    if piece:
        yield piece


def ship_traces(connection: psycopg.Connection, path: Path, log: Log) -> int:
    """Take in one batch of traces and remove its file; returns the traces taken in."""
    try:
        rows = [trace_row(body) for body in orjson.loads(path.read_bytes())]
    except (ValueError, TypeError, KeyError) as error:
        set_aside(path, error, log)
        return 0
    with connection.cursor() as cursor:
        cursor.executemany(INSERT_TRACE, rows)
    path.unlink()
    return len(rows)


def set_aside(path: Path, error: Exception, log: Log) -> None:
    """Keep a batch that cannot be read out of the way, and say so."""
    broken = path.parent / "broken"
    broken.mkdir(exist_ok=True)
    path.rename(broken / path.name)
    log(f"the batch {path.name} of {path.parent.parent.name} cannot be read and was set aside: {error}")


def ship(connection: psycopg.Connection, paths: Iterable[Path], log: Log, ids: KeyIds | None = None) -> int:
    """Take in some batches together and remove their files; returns the calls taken in.

    A file that cannot be read is set aside under `broken/`, never thrown away.
    """
    batches, read = [], []
    for path in paths:
        try:
            records = [read_row(row) for row in orjson.loads(path.read_bytes())]
            batches.append(Batch(path.stem, path.parent.parent.name, records))
        except (ValueError, TypeError) as error:
            set_aside(path, error, log)
        else:
            read.append(path)
    many = take_in(connection, batches, ids)
    _note_use(connection, [record for batch in batches for record in batch.records])
    for path in read:
        path.unlink()
    return many


def _note_use(connection: psycopg.Connection, records: list[Record]) -> None:
    """When each credential was last used, for those who look after it."""
    newest: dict[str, int] = {}
    for record in records:
        if record.credential and record.at > newest.get(record.credential, 0):
            newest[record.credential] = record.at
    if newest:
        with connection.cursor() as cursor:
            cursor.executemany(
                "UPDATE credential SET used_at = greatest(used_at, to_timestamp(%s)) WHERE id = %s",
                [(at / 1_000_000, id) for id, at in sorted(newest.items())],
            )
