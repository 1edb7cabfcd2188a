"""The recorder: records and traces of calls, written in batches to the node's spool folder.

A call costs one append to a list. Each batch becomes one file, named for the batch, that the worker sends
to PostgreSQL and removes; so the database being away delays nothing, and a killed node loses at most the
last batch. Beyond the spool's limit batches are dropped, and counted.
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
        if used and not self._write("quotas", used):
            self.dropped_quotas += sum(row[-1] for row in used)
        records = self._records
        if not records:
            return
        self._records = []
        self.add = self._records.append
        if len(records) > LIST_LIMIT:
            self.dropped += len(records) - LIST_LIMIT
            del records[LIST_LIMIT:]
        if self.count is not None:
            self.count(records)
        if not self._write("calls", records):
            self.dropped += len(records)

    def spooled_bytes(self) -> int:
        """What waits in the spool, in bytes."""
        with suppress(OSError):
            return sum(entry.stat().st_size for entry in os.scandir(self._spool) if entry.is_file())
        return 0

    def _flush_traces(self) -> None:
        traces = self._traces
        if traces:
            self._traces = []
            self._write("traces", traces)

    def _write(self, ending: str, rows: list[Any]) -> bool:
        self._batch += 1
        name = f"{self._session}-{self._batch:08x}"
        try:
            held = sum(entry.stat().st_size for entry in os.scandir(self._spool))
            if held > self._limit:
                raise OSError(f"the spool holds {held} bytes, its limit is {self._limit}")
            part = self._spool / f"{name}.part"
            part.write_bytes(orjson.dumps(rows))
            part.rename(self._spool / f"{name}.{ending}")
        except (OSError, TypeError):
            return False
        return True
