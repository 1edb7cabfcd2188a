"""What each process of a node counts, in memory that all of them see: the first tells the sums of it."""

from __future__ import annotations

import mmap
import struct
from typing import NamedTuple

_SLOT = struct.Struct("QQQ")


class Counted(NamedTuple):
    """Counts of one process, or of all."""

    calls: int = 0
    """Since the node began; a process that is started anew goes on from what was counted."""
    connections: int = 0
    memory_bytes: int = 0


class Tally:
    """A slot for each process, made before they are. A process writes its own slot alone."""

    def __init__(self, many: int = 1) -> None:
        self._shared = mmap.mmap(-1, _SLOT.size * many)
        self._many = many

    def put(self, number: int, counted: Counted) -> None:
        """Write a process's counts."""
        _SLOT.pack_into(self._shared, number * _SLOT.size, counted.calls, counted.connections, counted.memory_bytes)

    def of(self, number: int) -> Counted:
        """A process's counts."""
        return Counted(*_SLOT.unpack_from(self._shared, number * _SLOT.size))

    def all(self) -> Counted:
        """The sums."""
        every = [self.of(number) for number in range(self._many)]
        return Counted(*(sum(values) for values in zip(*every, strict=True)))
