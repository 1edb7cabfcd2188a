"""A process's place among those of its node."""

from __future__ import annotations

import socket
from dataclasses import dataclass, field
from pathlib import Path

from tamarack.gateway.processes.tally import Tally


@dataclass(frozen=True, slots=True)
class Place:
    """Which process of how many, and what it was given by the parent. A node of one process has none of it."""

    number: int = 0
    many: int = 1
    listening: socket.socket | None = None
    """The socket that callers connect to; it outlives the process."""
    listening_tls: socket.socket | None = None
    """The one for callers over TLS."""
    asked: socket.socket | None = None
    """Where the other processes ask this one."""
    others: tuple[str, ...] = ()
    """Where the others are asked."""
    tally: Tally = field(default_factory=Tally)

    @property
    def first(self) -> bool:
        """Whether it is the process that speaks for the node."""
        return self.number == 0

    def folder(self, home: Path) -> Path:
        """Where it keeps what it follows; records of all processes go to one folder."""
        return home if self.first else home / f"process-{self.number}"


ALONE = Place()
"""A node of one process."""
