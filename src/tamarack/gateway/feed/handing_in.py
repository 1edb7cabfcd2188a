"""Handing in: what the recorder of a joined node writes to its spool goes to the control side, batch by batch."""

import asyncio
from collections.abc import Awaitable, Callable
from contextlib import suppress
from pathlib import Path

from tamarack.core.nodes.batches import ENDINGS
from tamarack.gateway.feed.contract import FeedAway, FeedEnded
from tamarack.gateway.feed.over_http import BatchNotTaken

LOOK_EVERY_S = 0.5
AT_ONCE = 500
"""Batches that one look hands in, the oldest first."""

HandIn = Callable[[str, bytes], Awaitable[None]]
Log = Callable[[str], None]


class BatchesOut:
    """Hands in what waits in a spool folder, until cancelled."""

    def __init__(self, spool: Path, hand_in: HandIn, log: Log) -> None:
        self._spool = spool
        self._hand_in = hand_in
        self._log = log

    def waiting(self) -> list[Path]:
        """The batches that wait, the oldest first."""
        try:
            found = [path for path in self._spool.iterdir() if path.suffix[1:] in ENDINGS]
        except OSError:
            return []
        return sorted(found, key=lambda path: path.name)

    async def run(self) -> None:
        """Hand in until cancelled. A control side that is away, or a node it knows no more, leaves all as it is."""
        while True:
            with suppress(FeedAway, FeedEnded, OSError):  # following tells of it
                await self.hand_in_waiting()
            await asyncio.sleep(LOOK_EVERY_S)

    async def hand_in_waiting(self) -> int:
        """Hand in what waits; returns how many batches were taken. One that is refused stops none behind it."""
        many = 0
        for path in self.waiting()[:AT_ONCE]:
            try:
                content = path.read_bytes()
            except FileNotFoundError:
                continue
            try:
                await self._hand_in(path.name, content)
            except BatchNotTaken as error:
                self._set_aside(path, str(error))
            else:
                path.unlink(missing_ok=True)
                many += 1
        return many

    def _set_aside(self, path: Path, why: str) -> None:
        broken = self._spool / "broken"
        broken.mkdir(exist_ok=True)
        path.rename(broken / path.name)
        self._log(f"the control side does not take the batch {path.name}; it is kept in {broken}: {why}")
