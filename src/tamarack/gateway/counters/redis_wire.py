"""One connection to Redis that many calls share: commands go out together, answers come back in their order.

Parsing and packing are hiredis's. There is no pool, no task and no timer for a call; what is written within one turn
of the loop goes out in one write, and one look every few milliseconds ends a connection that answers too late.
"""

import asyncio
import ssl
from collections import deque
from time import monotonic
from typing import Any, cast
from urllib.parse import unquote, urlsplit

import hiredis

Word = str | bytes | int


class WireError(Exception):
    """The connection is away, too slow, or Redis answered with an error."""


class _Protocol(asyncio.Protocol):
    def __init__(self, timeout_s: float) -> None:
        self._loop = asyncio.get_running_loop()
        self._reader = hiredis.Reader()
        self._transport: asyncio.Transport | None = None
        self._waiting: deque[tuple[float, asyncio.Future[Any]]] = deque()
        self._out: list[bytes] = []
        self._too_old_s = timeout_s * 0.8
        self._look_every_s = timeout_s / 6
        self._looking: asyncio.TimerHandle | None = None
        self.closed = False

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self._transport = cast(asyncio.Transport, transport)  # uvloop's is one by its methods, not by its class

    def ask(self, *words: Word) -> asyncio.Future[Any]:
        """Send a command; the future has its answer."""
        future: asyncio.Future[Any] = self._loop.create_future()
        if self.closed:
            future.set_exception(WireError("the connection is closed"))
            return future
        self._waiting.append((monotonic(), future))
        if not self._out:
            self._loop.call_soon(self._flush)
        self._out.append(hiredis.pack_command(words))  # type: ignore[arg-type]
        if self._looking is None:
            self._looking = self._loop.call_later(self._look_every_s, self._look)
        return future

    def _flush(self) -> None:
        out, self._out = self._out, []
        if self._transport is not None and not self.closed:
            self._transport.write(b"".join(out))

    def _look(self) -> None:
        """End a connection whose oldest question waits too long; nothing after it can be answered sooner."""
        self._looking = None
        if not self._waiting:
            return
        if monotonic() - self._waiting[0][0] > self._too_old_s:
            self.end(WireError("no answer in time"))
        else:
            self._looking = self._loop.call_later(self._look_every_s, self._look)

    def data_received(self, data: bytes) -> None:
        reader = self._reader
        reader.feed(data)
        try:
            while (answer := reader.gets()) is not False:
                _, future = self._waiting.popleft()
                if future.done():
                    continue
                if isinstance(answer, hiredis.ReplyError):
                    future.set_exception(WireError(str(answer)))
                else:
                    future.set_result(answer)
        except (hiredis.ProtocolError, IndexError) as error:
            self.end(WireError(f"an answer that cannot be read: {error}"))

    def connection_lost(self, exc: Exception | None) -> None:
        self.end(WireError(str(exc) if exc is not None else "the connection was closed"))

    def end(self, error: WireError) -> None:
        """Close, and tell all who wait."""
        self.closed = True
        if self._looking is not None:
            self._looking.cancel()
            self._looking = None
        if self._transport is not None:
            self._transport.abort()
        waiting, self._waiting = self._waiting, deque()
        for _, future in waiting:
            if not future.done():
                future.set_exception(error)
                future.exception()  # where nobody asks any more, that is no fault


class RedisWire:
    """A connection that is made when it is needed, and anew after it was lost. `redis://` or `rediss://`."""

    def __init__(self, url: str, timeout_s: float) -> None:
        parts = urlsplit(url)
        if parts.scheme not in ("redis", "rediss") or not parts.hostname:
            raise ValueError(
                f"{parts.scheme}://{parts.hostname or ''} is no address of Redis; give redis://host:port/0"
            )
        self._host, self._port = parts.hostname, parts.port or 6379
        self._tls = ssl.create_default_context() if parts.scheme == "rediss" else None
        self._user, self._password = unquote(parts.username or ""), unquote(parts.password or "")
        self._database = int(parts.path.strip("/") or "0")
        self._timeout = timeout_s
        self._protocol: _Protocol | None = None
        self._connecting: asyncio.Task[_Protocol] | None = None

    async def ask(self, *words: Word) -> Any:
        """Send a command and wait for its answer. Raises `WireError`."""
        protocol = self._protocol
        if protocol is None or protocol.closed:
            protocol = await self._connected()
        return await protocol.ask(*words)

    async def _connected(self) -> _Protocol:
        """The connection, made by the first who needs it; the others wait for the same one."""
        if self._connecting is None:
            self._connecting = asyncio.create_task(self._connect())
            self._connecting.add_done_callback(self._made)
        return await asyncio.shield(self._connecting)

    def _made(self, task: asyncio.Task[_Protocol]) -> None:
        self._connecting = None
        if not task.cancelled():
            task.exception()

    async def _connect(self) -> _Protocol:
        try:
            async with asyncio.timeout(self._timeout):
                _, protocol = await asyncio.get_running_loop().create_connection(
                    lambda: _Protocol(self._timeout), self._host, self._port, ssl=self._tls
                )
                try:
                    if self._password:
                        await protocol.ask("AUTH", *((self._user,) if self._user else ()), self._password)
                    if self._database:
                        await protocol.ask("SELECT", self._database)
                except WireError as error:
                    protocol.end(error)
                    raise
        except (OSError, TimeoutError) as error:
            raise WireError(str(error) or "no connection in time") from error
        self._protocol = protocol
        return protocol

    def close(self) -> None:
        """Close the connection; a later command makes another."""
        if self._protocol is not None:
            self._protocol.end(WireError("closed"))
            self._protocol = None
