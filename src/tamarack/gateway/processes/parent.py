"""The parent of a node's processes. It holds the listening sockets, one for each process (SO_REUSEPORT), so that calls
that come while a process is started anew wait for it and are not refused. It carries nothing itself.
"""

from __future__ import annotations

import ctypes
import os
import secrets
import signal
import socket
import sys
import time
from collections.abc import Callable

from tamarack.gateway.processes.place import Place
from tamarack.gateway.processes.tally import Tally
from tamarack.gateway.wire.server import BACKLOG

AGAIN_AFTER_S = (0.0, 0.2, 1.0, 2.0, 5.0)
LASTS_S = 30.0
"""A process that lived this long had no trouble beginning."""
_SET_PDEATHSIG = 1

Run = Callable[[Place], int]
"""What a process does, to its end; returns its exit code."""
Log = Callable[[str], None]


def listening(host: str, port: int, many: int) -> list[socket.socket]:
    """Sockets that share a port, listening. Raises OSError where it cannot be listened on."""
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    made = []
    for _ in range(many):
        one = socket.socket(family, socket.SOCK_STREAM)
        one.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        one.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEPORT, 1)
        one.setblocking(False)
        one.bind((host, port))
        port = one.getsockname()[1]
        made.append(one)
    for one in made:
        one.listen(BACKLOG)
    return made


class Parent:
    """Runs a node's processes until it is told to stop, or one of them ends for good."""

    def __init__(
        self, many: int, host: str, port: int, tls_port: int, run: Run, for_good: frozenset[int], log: Log
    ) -> None:
        self._run = run
        self._for_good = for_good
        self._log = log
        self._sockets = listening(host, port, many)
        self._tls: list[socket.socket] = listening(host, tls_port, many) if tls_port else []
        self._asked = [self._asked_at(name) for name in self._names(many)]
        self._tally = Tally(many)
        self._pids: dict[int, int] = {}
        self._began = [0.0] * many
        self._failures = [0] * many
        self._stopping = False

    @staticmethod
    def _names(many: int) -> list[str]:
        """Names that nobody else guesses; what is asked there is sealed besides."""
        secret = secrets.token_hex(8)
        return [f"\0tamarack-{secret}-{number}" for number in range(many)]

    @staticmethod
    def _asked_at(name: str) -> socket.socket:
        made = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
        made.setblocking(False)
        made.bind(name)
        made.listen(16)
        return made

    def run(self) -> int:
        """Run them; returns the exit code."""
        for told in (signal.SIGTERM, signal.SIGINT):
            signal.signal(told, lambda *_: self._stop())
        for number in range(len(self._sockets)):
            self._start(number)
        code = 0
        while self._pids:
            try:
                pid, status = os.wait()
            except InterruptedError:
                continue
            place = self._pids.pop(pid, None)
            if place is None or self._stopping:
                continue
            ended = os.waitstatus_to_exitcode(status)
            if ended in self._for_good:
                code = ended
                self._stop()
                continue
            self._again(place, ended)
        return code

    def _stop(self) -> None:
        self._stopping = True
        for pid in list(self._pids):
            os.kill(pid, signal.SIGTERM)

    def _again(self, number: int, ended: int) -> None:
        how = f"was ended by {signal.Signals(-ended).name}" if ended < 0 else f"ended with code {ended}"
        self._log(f"process {number + 1} of {len(self._sockets)} {how}; starting it again")
        lived = time.monotonic() - self._began[number]
        self._failures[number] = 0 if lived > LASTS_S else self._failures[number] + 1
        wait = AGAIN_AFTER_S[min(self._failures[number], len(AGAIN_AFTER_S) - 1)]
        if wait:
            time.sleep(wait)  # calls go to the other processes' sockets, or wait in this one's
        if not self._stopping:
            self._start(number)

    def _start(self, number: int) -> None:
        self._began[number] = time.monotonic()
        sys.stdout.flush()
        sys.stderr.flush()
        parent = os.getpid()
        pid = os.fork()
        if pid:
            self._pids[pid] = number
            return
        code = 1
        try:
            _end_with(parent)
            for signal_number in (signal.SIGTERM, signal.SIGINT):
                signal.signal(signal_number, signal.SIG_DFL)
            names = [one.getsockname() for one in self._asked]
            others = tuple(_name(name) for place, name in enumerate(names) if place != number)
            tls = self._tls[number] if self._tls else None
            place = Place(
                number, len(self._sockets), self._sockets[number], tls, self._asked[number], others, self._tally
            )
            code = self._run(place)
        except KeyboardInterrupt:
            code = 0
        finally:
            sys.stdout.flush()
            sys.stderr.flush()
            os._exit(code)


def _name(bound: str | bytes) -> str:
    return bound.decode() if isinstance(bound, bytes) else bound


def _end_with(parent: int) -> None:
    """Have the system end this process when its parent ends, however that ends."""
    ctypes.CDLL(None).prctl(_SET_PDEATHSIG, signal.SIGTERM)
    if os.getppid() != parent:  # it ended before this was said
        os._exit(1)
