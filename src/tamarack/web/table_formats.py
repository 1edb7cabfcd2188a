"""Tables as they are handed over: CSV (RFC 4180), JSON Lines, and Apache Parquet; written piece by piece.

Memory is bounded by one piece, however long the table is.
"""

import csv
import io
import json
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from itertools import islice
from typing import Any, Literal

Form = Literal["csv", "jsonl", "parquet"]

FORMS: Mapping[str, str] = {
    "csv": "text/csv",
    "jsonl": "application/jsonl",
    "parquet": "application/vnd.apache.parquet",
}
"""The forms, with their media types."""
PIECE = 5_000
"""Rows that are written together."""

Type = Literal["text", "integer", "number", "moment"]
Columns = Mapping[str, Type]
"""The columns of a table, with what stands in each."""
_NUMBER = re.compile(r"[-+]?[0-9]+(\.[0-9]+)?([eE][-+]?[0-9]+)?", re.ASCII)
_FORMULA = ("=", "+", "-", "@", "\t", "\r")


def pieces(form: str, columns: Columns, rows: Iterable[Sequence[Any]]) -> Iterator[bytes]:
    """A table in one of the forms."""
    match form:
        case "csv":
            return _csv(columns, iter(rows))
        case "jsonl":
            return _jsonl(columns, iter(rows))
        case _:
            return _parquet(columns, iter(rows))


def _plain(value: Any) -> Any:
    return value.isoformat() if isinstance(value, datetime) else value


def _cell(value: Any) -> Any:
    """A value that a spreadsheet would take for a formula is set off with an apostrophe."""
    value = _plain(value)
    if not isinstance(value, str) or not value.startswith(_FORMULA) or _NUMBER.fullmatch(value):
        return value
    return f"'{value}"


def _csv(columns: Columns, rows: Iterator[Sequence[Any]]) -> Iterator[bytes]:
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(columns)
    while True:
        yield out.getvalue().encode()
        out.seek(0)
        out.truncate()
        piece = list(islice(rows, PIECE))
        if not piece:
            return
        writer.writerows([_cell(value) for value in row] for row in piece)


def _jsonl(columns: Columns, rows: Iterator[Sequence[Any]]) -> Iterator[bytes]:
    while piece := list(islice(rows, PIECE)):
        lines = (json.dumps(dict(zip(columns, map(_plain, row), strict=True)), ensure_ascii=False) for row in piece)
        yield ("\n".join(lines) + "\n").encode()


class _Pipe(io.RawIOBase):
    """A file that is only written, and emptied as it grows."""

    def __init__(self) -> None:
        self._written = bytearray()

    def writable(self) -> bool:
        return True

    def write(self, data: Any) -> int:
        self._written += data
        return len(data)

    def take(self) -> bytes:
        """What was written since the last look."""
        taken = bytes(self._written)
        self._written.clear()
        return taken


def _parquet(columns: Columns, rows: Iterator[Sequence[Any]]) -> Iterator[bytes]:
    import pyarrow as pa  # takes a while to load, and most pages never need it
    import pyarrow.parquet as pq

    types = {
        "text": pa.string(),
        "integer": pa.int64(),
        "number": pa.float64(),
        "moment": pa.timestamp("us", tz="UTC"),
    }
    schema = pa.schema([(name, types[type]) for name, type in columns.items()])
    pipe = _Pipe()
    with pq.ParquetWriter(pa.PythonFile(pipe, mode="w"), schema, compression="zstd") as writer:
        while piece := list(islice(rows, 10 * PIECE)):
            arrays = [
                pa.array(values, type=field.type)
                for values, field in zip(zip(*piece, strict=True), schema, strict=True)
            ]
            writer.write_batch(pa.record_batch(arrays, schema=schema))
            yield pipe.take()
    yield pipe.take()
