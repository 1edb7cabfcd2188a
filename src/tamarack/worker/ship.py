"""Shipping: batches of records from the nodes' spool folders into PostgreSQL.

A batch that cannot be read, or that the database refuses for what is in it, is set aside: kept under `broken/`, noted
where staff see it, and told. Those behind it are taken in. A database that is away delays all of them and loses none.
"""

import threading
from collections.abc import Callable, Iterable, Iterator
from contextlib import suppress
from pathlib import Path

import orjson
import psycopg

from tamarack.core.traffic.record import Record, read_row
from tamarack.settings import Settings
from tamarack.store.prompts.queries import INSERT_PROMPT, prompt_row
from tamarack.store.traffic.recording import Batch, KeyIds, take_in
from tamarack.store.traffic.traces import INSERT_TRACE, trace_row

Log = Callable[[str], None]
Note = Callable[[str, str, str, str], None]
"""Notes a batch that is set aside, where staff see it: its name, its node, what was wrong, and where it is kept."""


def unnoted(name: str, node: str, problem: str, path: str) -> None:
    """A `Note` that notes nothing: the log is all there is."""


_AWAY = (psycopg.OperationalError, psycopg.InterfaceError)
"""What says nothing of a batch: the database is away, too busy, or stopping."""

_BESIDE = {".traces": (INSERT_TRACE, trace_row), ".prompts": (INSERT_PROMPT, prompt_row)}
"""What comes beside the records of calls, by the ending of its files: how a row is written, and made."""
MOST_BYTES = 16_000_000
"""How much of the spool is taken in together, in bytes; one file may be more."""


def waiting(nodes: Path) -> list[Path]:
    """The batches that wait, oldest first for each node."""
    found = [path for ending in (".calls", *_BESIDE) for path in nodes.glob(f"*/spool/*{ending}")]
    return sorted(found, key=lambda path: path.name)


def in_batches(paths: Iterable[Path]) -> Iterator[list[Path]]:
    """The files in pieces that are taken in together: what piled up while the database was away costs less so."""
    piece: list[Path] = []
    size = 0
    for path in paths:
        if path.suffix in _BESIDE:
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


class Shipper:
    """Ships what waits, on a connection of its own."""

    def __init__(self, settings: Settings, stop: threading.Event, log: Log, note: Note = unnoted) -> None:
        self._settings = settings
        self._stop = stop
        self._log = log
        self._note = note
        self._ids = KeyIds()
        self._connection: psycopg.Connection | None = None

    def ship_waiting(self) -> None:
        """Take in all that waits. Raises `psycopg.Error` while the database is away."""
        connection = self._connection
        if connection is None or connection.closed:
            connection = psycopg.connect(self._settings.database, autocommit=True, connect_timeout=3)
            self._connection = connection
        try:
            for paths in in_batches(waiting(self._settings.home / "nodes")):
                if paths[0].suffix in _BESIDE:
                    ship_beside(connection, paths[0], self._log, self._note)
                else:
                    ship(connection, paths, self._log, self._ids, self._note)
                if self._stop.is_set():
                    return
        except _AWAY:
            self.close()
            raise

    def close(self) -> None:
        """Let go of the connection; the next look makes another."""
        if self._connection is not None:
            with suppress(psycopg.Error):
                self._connection.close()
            self._connection = None


def ship_beside(connection: psycopg.Connection, path: Path, log: Log, note: Note = unnoted) -> int:
    """Take in one batch of traces or prompts and remove its file; returns how many were taken in."""
    statement, row = _BESIDE[path.suffix]
    try:
        rows = [row(body) for body in orjson.loads(path.read_bytes())]
        with connection.transaction(), connection.cursor() as cursor:
            cursor.executemany(statement, rows)
    except _AWAY:
        raise
    except (ValueError, TypeError, KeyError, OverflowError, psycopg.Error) as error:
        set_aside(path, error, log, note)
        return 0
    path.unlink()
    return len(rows)


def set_aside(path: Path, error: Exception, log: Log, note: Note = unnoted) -> None:
    """Keep a batch out of the way of those behind it, and say so: in the log, and where staff see it."""
    broken = path.parent / "broken"
    broken.mkdir(exist_ok=True)
    node = path.parent.parent.name
    kept = path.rename(broken / path.name)
    said = str(error).partition("\n")[0] or type(error).__name__
    log(f"the batch {path.name} of {node} cannot be taken in and was set aside: {said}")
    note(path.name, node, said, str(kept))


def ship(
    connection: psycopg.Connection, paths: Iterable[Path], log: Log, ids: KeyIds | None = None, note: Note = unnoted
) -> int:
    """Take in some batches together and remove their files; returns the calls taken in.

    Where the database refuses them together, each is tried by itself, so that only the one at fault is set aside.
    """
    batches: list[Batch] = []
    read: list[Path] = []
    for path in paths:
        try:
            records = [read_row(row) for row in orjson.loads(path.read_bytes())]
            batches.append(Batch(path.stem, path.parent.parent.name, records))
        except (ValueError, TypeError) as error:
            set_aside(path, error, log, note)
        else:
            read.append(path)
    try:
        many = take_in(connection, batches, ids)
    except _AWAY:
        raise
    except Exception as error:  # of the data: the database's own word, or a number that fits nowhere
        if len(read) > 1:
            return sum(ship(connection, [path], log, ids, note) for path in read)
        for path in read:
            set_aside(path, error, log, note)
        return 0
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
