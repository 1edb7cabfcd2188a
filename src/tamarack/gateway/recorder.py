"""The recorder: records and traces of calls, written in batches to the node's spool folder.

A call costs one append to a list. Each batch becomes one file, named for the batch, that the worker sends
to PostgreSQL and removes; so the database being away delays nothing, and a killed node loses at most the
last batch. What the disk does not take goes with the next batch; beyond the spool's limit batches are dropped,
and counted.
"""

import asyncio
import os
import secrets
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import Any

import orjson

from tamarack.gateway.quota_use import QuotaUse

TRACE_LIMIT = 500
"""Traces kept of one batch."""
LIST_LIMIT = 200_000
"""Records held between two batches; the rest of them is dropped and counted."""


class Recorder:
    """Takes records as tuples in the order of `core.traffic.record.FIELDS`."""

    def __init__(self, spool: Path, limit_bytes: int, every_s: float, quotas: QuotaUse | None = None) -> None:
        self._spool = spool
        self._limit = limit_bytes
        self._every = every_s
        self._records: list[tuple[Any, ...]] = []
        self.add = self._records.append
        self._traces: list[dict[str, Any]] = []
        self.quotas = quotas
        self.dropped = 0
        self.dropped_quotas = 0
        self.count: Callable[[list[tuple[Any, ...]]], None] | None = None
        """Is told each batch of records, for metrics."""
        self._session = f"{int(time.time() * 1000):x}{secrets.token_hex(4)}"
        self._batch = 0
        self._unwritten: dict[str, list[Any]] = {}
        spool.mkdir(parents=True, exist_ok=True)

    async def run(self) -> None:
        """Write a batch every so often, until cancelled; then write the last."""
        try:
            while True:
                await asyncio.sleep(self._every)
                self.flush()
        finally:
            self.flush()

    def add_trace(self, trace: dict[str, Any]) -> None:
        """Take a trace; beyond the limit of one batch it is dropped, for its call is recorded all the same."""
        if len(self._traces) < TRACE_LIMIT:
            self._traces.append(trace)

    def flush(self) -> None:
        """Write what there is as one batch. Never raises: recording must not stop a node."""
        self._flush_traces()
        used = self.quotas.take() if self.quotas is not None else []
        self.dropped_quotas += sum(row[-1] for row in self._write("quotas", used))
        records = self._records
        if records:
            self._records = []
            self.add = self._records.append
            if self.count is not None:
                self.count(records)
        self.dropped += len(self._write("calls", records))

    def spooled_bytes(self) -> int:
        """What waits in the spool, in bytes; the worker may take a file away while they are counted."""
        held = 0
        with suppress(OSError), os.scandir(self._spool) as entries:
            for entry in entries:
                with suppress(FileNotFoundError):
                    held += entry.stat().st_size
        return held

    def _flush_traces(self) -> None:
        traces = self._traces
        if traces:
            self._traces = []
            self._write("traces", traces)
            self._unwritten.pop("traces", None)  # their calls are recorded all the same, and they are large

    def _write(self, ending: str, rows: list[Any]) -> list[Any]:
        """Write rows, after those that could not be written before, as one batch; returns what is dropped."""
        rows = [*self._unwritten.pop(ending, ()), *rows]
        beyond, rows = rows[LIST_LIMIT:], rows[:LIST_LIMIT]
        if not rows:
            return beyond
        if self.spooled_bytes() > self._limit:
            return rows + beyond
        self._batch += 1
        name = f"{self._session}-{self._batch:08x}"
        part = self._spool / f"{name}.part"
        try:
            part.write_bytes(orjson.dumps(rows))
            part.rename(self._spool / f"{name}.{ending}")
        except OSError:
            self._unwritten[ending] = rows
            with suppress(OSError):
                part.unlink()
        except TypeError:
            return rows + beyond
        return beyond
