"""The server that callers connect to: it listens, keeps every connection's time, and drains when told to stop."""

from __future__ import annotations

import asyncio
import socket
import ssl
from collections.abc import Callable
from typing import Any

from tamarack.gateway.driver import NodeDriver
from tamarack.gateway.wire.connection import CALL, CallerConnection
from tamarack.gateway.wire.limits import WireLimits

SWEEP_S = 0.1
BACKLOG = 2048
SHUTDOWN_S = 1.0
"""How long a caller may take to end TLS in good order."""


class CallerServer:
    """Listens on one port for the life of a node. `new_driver` makes what carries a connection's calls.

    With `tls`, callers are talked to over TLS; `hsts_s` tells browsers for how long to come so alone.
    """

    def __init__(
        self,
        limits: WireLimits,
        new_driver: Callable[[CallerConnection], NodeDriver],
        tls: ssl.SSLContext | None = None,
        hsts_s: int = 0,
    ) -> None:
        self._tls = tls
        self.asks_certificates = tls is not None
        """Whether callers may show a certificate."""
        self.scheme = "http" if tls is None else "https"
        self.blank = b"\r\n"
        """What ends the head of every answer: a blank line, after fields that all of them carry."""
        if tls is not None and hsts_s:
            self.blank = b"strict-transport-security: max-age=%d\r\n\r\n" % hsts_s
        self.limits = limits
        self.new_driver = new_driver
        self.draining = False
        self.late = 0.0
        """By when an idle connection has to send its next request; as exact as the sweep."""
        self.connections: set[CallerConnection] = set()
        self._server: asyncio.Server | None = None
        self._sweeping: asyncio.TimerHandle | None = None

    async def listen(self, host: str, port: int, listening: socket.socket | None = None) -> int:
        """Begin to take connections, at a socket that listens already where one is given; returns the port. Raises
        OSError where it cannot be listened on."""
        loop = asyncio.get_running_loop()

        def connected() -> CallerConnection:
            return CallerConnection(self, loop)

        tls: dict[str, Any] = {}
        if self._tls is not None:
            tls = {"ssl": self._tls, "ssl_handshake_timeout": self.limits.head_s, "ssl_shutdown_timeout": SHUTDOWN_S}
        if listening is not None:
            self._server = await loop.create_server(connected, sock=listening, backlog=BACKLOG, **tls)
        else:
            self._server = await loop.create_server(
                connected, host, port, backlog=BACKLOG, family=socket.AF_UNSPEC, **tls
            )
        self._sweep()
        listens: Any = self._server  # uvloop's has a list of its sockets where asyncio's has a tuple
        return int(listens.sockets[0].getsockname()[1])

    def opened(self, connection: CallerConnection) -> bool:
        """A connection was made; False where there are too many."""
        if len(self.connections) >= self.limits.connections or self.draining:
            return False
        self.connections.add(connection)
        return True

    def closed(self, connection: CallerConnection) -> None:
        """A connection has ended."""
        self.connections.discard(connection)

    def _sweep(self) -> None:
        loop = asyncio.get_running_loop()
        now = loop.time()
        self.late = now + self.limits.idle_s
        for connection in [one for one in self.connections if one.deadline and now > one.deadline]:
            connection.expire()
        self._sweeping = loop.call_later(SWEEP_S, self._sweep)

    async def drain(self, seconds: float) -> None:
        """Take no more connections, let the calls under way finish for a time, then close what is left."""
        self.draining = True
        if self._server is not None:
            self._server.close()
        for connection in list(self.connections):
            if connection.state != CALL:
                connection.close()
        until = asyncio.get_running_loop().time() + seconds
        while self.connections and asyncio.get_running_loop().time() < until:  # noqa: ASYNC110 - rare, and many end
            await asyncio.sleep(0.02)
        for connection in list(self.connections):
            connection.abort_call()
        if self._sweeping is not None:
            self._sweeping.cancel()
        await asyncio.sleep(0)
