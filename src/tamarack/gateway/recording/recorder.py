"""The recorder: records and traces of calls, and prompts that are kept, written in batches to the node's spool folder.

A call costs one append to a list; every few dozen records become bytes at once, so that no batch ever stops the loop
for long. Each batch becomes one file, named for the batch, that the worker sends to PostgreSQL and removes; so the
database being away delays nothing, and a killed node loses at most the last batch. What the disk does not take goes
with the next batch; beyond the spool's limit batches are dropped, and counted.
"""

import asyncio
import os
import secrets
import time
from collections.abc import Callable, Generator, Iterator
from contextlib import suppress
from pathlib import Path
from typing import Any

import orjson

from tamarack.gateway.recording.field_use import FieldUse
from tamarack.gateway.recording.misfit_count import MisfitCount
from tamarack.gateway.recording.quota_use import QuotaUse

SLICE = 64
"""Records that become bytes at once: about a tenth of a millisecond."""
PIECE = 512_000
"""Bytes written before others have their turn."""
TRACE_LIMIT = 500
"""Traces kept of one batch."""
PROMPTS_LIMIT = 8_000_000
"""Bytes of prompts and answers that are kept of one batch; the rest are dropped and counted."""
LIST_LIMIT = 200_000
"""Records held between two batches; the rest of them is dropped and counted."""

Packed = tuple[bytes, int]
"""Some rows as the inside of a JSON list, and how many they are."""


class Recorder:
    """Takes records as tuples in the order of `core.traffic.record.FIELDS`."""

    def __init__(
        self,
        spool: Path,
        limit_bytes: int,
        every_s: float,
        quotas: QuotaUse | None = None,
        misfits: MisfitCount | None = None,
        fields: FieldUse | None = None,
    ) -> None:
        self._spool = spool
        self._limit = limit_bytes
        self._every = every_s
        self._fresh: list[tuple[Any, ...]] = []
        self._packed: list[Packed] = []
        self._traces: list[dict[str, Any]] = []
        self.quotas = quotas
        self.misfits = misfits
        self.fields = fields
        self._prompts: list[Packed] = []
        self._prompts_size = 0
        self.dropped = 0
        self.taken = 0
        """Records that came since the node began."""
        self.dropped_quotas = 0
        self.dropped_prompts = 0
        self.count: Callable[[list[tuple[Any, ...]]], None] | None = None
        """Is told every record once, some at a time, for metrics."""
        self._session = f"{int(time.time() * 1000):x}{secrets.token_hex(4)}"
        self._batch = 0
        self._unwritten: dict[str, list[Packed]] = {}
        spool.mkdir(parents=True, exist_ok=True)

    def add(self, record: tuple[Any, ...]) -> None:
        """Take a record."""
        fresh = self._fresh
        fresh.append(record)
        if len(fresh) >= SLICE:
            self._pack()

    def _pack(self) -> None:
        """Turn what came since into bytes. A row that cannot be written costs no other."""
        fresh = self._fresh
        if not fresh:
            return
        self._fresh = []
        self.taken += len(fresh)
        if self.count is not None:
            self.count(fresh)
        packed, dropped = _pack(fresh)
        self._packed += packed
        self.dropped += dropped

    async def run(self) -> None:
        """Write a batch every so often, until cancelled; then write the last."""
        try:
            while True:
                await asyncio.sleep(self._every)
                for _ in self._steps():
                    await asyncio.sleep(0)
        finally:
            self.flush()

    def add_trace(self, trace: dict[str, Any]) -> None:
        """Take a trace; beyond the limit of one batch it is dropped, for its call is recorded all the same."""
        if len(self._traces) < TRACE_LIMIT:
            self._traces.append(trace)

    def add_prompt(self, entry: dict[str, Any]) -> None:
        """Take what is kept of a prompt and its answer. Texts may be long, so they are bytes at once."""
        packed = orjson.dumps(entry)
        if self._prompts_size + len(packed) > PROMPTS_LIMIT:
            self.dropped_prompts += 1
            return
        self._prompts_size += len(packed)
        self._prompts.append((packed, 1))

    def flush(self) -> None:
        """Write what there is as one batch. Never raises: recording must not stop a node."""
        for _ in self._steps():
            pass

    def _steps(self) -> Iterator[None]:
        """Write what there is, one step of it at a time."""
        traces, self._traces = self._traces, []
        yield from self._write("traces", _pack(traces)[0])
        self._unwritten.pop("traces", None)  # their calls are recorded all the same, and they are large
        prompts, self._prompts, self._prompts_size = self._prompts, [], 0
        self.dropped_prompts += yield from self._write("prompts", prompts)
        self.dropped_prompts += sum(many for _, many in self._unwritten.pop("prompts", ()))
        used = self.quotas.take() if self.quotas is not None else []
        self.dropped_quotas += sum(row[-1] for row in used) if (yield from self._write("quotas", _pack(used)[0])) else 0
        yield from self._write("misfits", _pack(self.misfits.take())[0] if self.misfits is not None else [])
        yield from self._write("fields", _pack(self.fields.take())[0] if self.fields is not None else [])
        self._pack()
        packed, self._packed = self._packed, []
        self.dropped += yield from self._write("calls", packed)

    def spooled_bytes(self) -> int:
        """What waits in the spool, in bytes; the worker may take a file away while they are counted."""
        held = 0
        with suppress(OSError), os.scandir(self._spool) as entries:
            for entry in entries:
                with suppress(FileNotFoundError):
                    held += entry.stat().st_size
        return held

    def _write(self, ending: str, rows: list[Packed]) -> Generator[None, None, int]:
        """Write rows, after those that could not be written before, as one batch; returns how many are dropped."""
        rows = [*self._unwritten.pop(ending, ()), *rows]
        beyond = 0
        while rows and sum(many for _, many in rows) > LIST_LIMIT:
            beyond += rows.pop()[1]
        if not rows:
            return beyond
        if self.spooled_bytes() > self._limit:
            return beyond + sum(many for _, many in rows)
        self._batch += 1
        name = f"{self._session}-{self._batch:08x}"
        part = self._spool / f"{name}.part"
        written = False
        try:
            with part.open("wb") as file:
                size = file.write(b"[")
                for place, (piece, _) in enumerate(rows):
                    if place:
                        file.write(b",")
                    size += file.write(piece)
                    if size > PIECE:
                        size = 0
                        yield
                file.write(b"]")
            part.rename(self._spool / f"{name}.{ending}")
            written = True
        except OSError:
            pass
        finally:
            if not written:  # also where the node was told to stop in the middle of it
                self._unwritten[ending] = rows
                with suppress(OSError):
                    part.unlink()
        return beyond


def _pack(rows: list[Any]) -> tuple[list[Packed], int]:
    """Rows as bytes, and how many cannot be written."""
    if not rows:
        return [], 0
    try:
        return [(orjson.dumps(rows)[1:-1], len(rows))], 0
    except TypeError:
        pass
    found: list[Packed] = []
    for row in rows:
        with suppress(TypeError):
            found.append((orjson.dumps(row), 1))
    return found, len(rows) - len(found)
