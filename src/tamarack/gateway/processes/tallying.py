"""Writing down, every half second, what a process counts, where the first process of its node reads it."""

from __future__ import annotations

import asyncio
from collections.abc import Callable

from tamarack.gateway.measured import memory_bytes
from tamarack.gateway.processes.place import Place
from tamarack.gateway.processes.tally import Counted

EVERY_S = 0.5


class Tallying:
    """One for a process. `counts` are its calls so far and its connections; `also` is done each time."""

    def __init__(self, place: Place, counts: Callable[[], tuple[int, int]], also: Callable[[], None]) -> None:
        self._place, self._counts, self._also = place, counts, also

    def write(self) -> None:
        """Write it down once."""
        calls, connections = self._counts()
        self._place.tally.put(self._place.number, Counted(calls, connections, memory_bytes()))
        self._also()

    async def run(self) -> None:
        """Write until cancelled."""
        while True:
            self.write()
            await asyncio.sleep(EVERY_S)
