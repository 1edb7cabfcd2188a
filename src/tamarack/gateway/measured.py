"""What a node measures of itself, for the page of nodes."""

from __future__ import annotations

import resource
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from tamarack.gateway.processes.tally import Tally

_STATM = Path("/proc/self/statm")
_PAGE = resource.getpagesize()


@dataclass(frozen=True, slots=True)
class Measured:
    """One measurement of a node, all its processes together."""

    calls_per_s: float = 0.0
    connections: int = 0
    memory_bytes: int = 0
    spool_bytes: int = 0


def memory_bytes() -> int:
    """Bytes of memory that this process has in use; 0 where the system does not tell."""
    try:
        return int(_STATM.read_text().split()[1]) * _PAGE
    except (OSError, ValueError, IndexError):
        return 0


class Gauge:
    """Measures: calls a second since it was last asked, and how everything else is now."""

    def __init__(
        self, tally: Tally, spool_bytes: Callable[[], int], clock: Callable[[], float] = time.monotonic
    ) -> None:
        self._tally, self._spool_bytes, self._clock = tally, spool_bytes, clock
        self._before = (clock(), tally.all().calls)
        self._rate = 0.0

    def __call__(self) -> Measured:
        """A measurement."""
        at, counted = self._clock(), self._tally.all()
        before, earlier = self._before
        if at - before >= 1.0:
            self._before = (at, counted.calls)
            self._rate = round((counted.calls - earlier) / (at - before), 1)
        return Measured(self._rate, counted.connections, counted.memory_bytes, self._spool_bytes())
