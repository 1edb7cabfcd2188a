"""The real upstream client: kept connections on asyncio protocols, answers read by httptools (llhttp).

Measured against general clients, this is what makes a node fast: no task, no timer and no copy per call.
Time limits are kept by one sweep over the busy connections, every 50 ms.
"""

from __future__ import annotations

import asyncio
import ssl
from collections import deque
from collections.abc import AsyncIterator
from typing import cast

import httptools

from tamarack.core.carrying.call import Header
from tamarack.gateway.upstream.interface import Answer, TargetAddress, UpstreamError

HIGH_WATER = 262_144
"""Bytes of an answer held before the target is told to wait."""
MOST_CONNECTIONS = 1024
"""Connections to one target."""
MOST_HEAD = 65_536
"""Bytes of an answer's header fields."""
IDLE_S = 20.0
SWEEP_S = 0.05

_NO_BODY = frozenset((204, 304))


class _Connection(asyncio.Protocol):
    """One connection to a target; carries one call at a time and is its `Answer`."""

    def __init__(self, key: _Target, loop: asyncio.AbstractEventLoop) -> None:
        self.target = key
        self.loop = loop
        self.transport: asyncio.Transport = None  # type: ignore[assignment]
        self.parser = httptools.HttpResponseParser(self)
        self.lost = False
        self.busy = False
        self.used = False
        self.idle_since = 0.0
        self.deadline = 0.0
        self.writable: asyncio.Future[None] | None = None
        self._reset("GET")

    def _reset(self, method: str) -> None:
        self.is_head = method == "HEAD"
        self.status = 0
        self.headers: list[Header] = []
        self.head_bytes = 0
        self.head_done = False
        self.complete = False
        self.keep = False
        self.bounded = False
        self.failure: UpstreamError | None = None
        self.body: deque[bytes] = deque()
        self.held = 0
        self.paused = False
        self.waiter: asyncio.Future[None] | None = None

    # what asyncio calls

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self.transport = cast(asyncio.Transport, transport)

    def data_received(self, data: bytes) -> None:
        if not self.busy or self.complete:
            self._fail(UpstreamError("broken", "sent more than one answer"))
            return
        if self.is_head and self.head_done:
            self._fail(UpstreamError("broken", "sent a body with an answer that has none"))
            return
        self.deadline = self.loop.time() + self.target.address.read_timeout_s
        try:
            self.parser.feed_data(data)
        except httptools.HttpParserUpgrade:
            self._fail(UpstreamError("broken", "switched to another protocol"))
        except httptools.HttpParserError as error:
            self._fail(UpstreamError("broken", f"sent what is not HTTP: {error}"))
        if self.is_head and self.complete:
            self.parser = httptools.HttpResponseParser(self)

    def connection_lost(self, exc: Exception | None) -> None:
        self.lost = True
        self.target.forget(self)
        if self.writable is not None and not self.writable.done():
            self.writable.set_result(None)
        if self.busy and not self.complete and self.failure is None:
            if self.head_done and not self.bounded and exc is None:
                self.complete = True
                self._wake()
            else:
                where = "in the middle of its answer" if self.head_done else "before it answered"
                self._fail(UpstreamError("broken", f"closed the connection {where}"))

    def pause_writing(self) -> None:
        self.writable = self.loop.create_future()

    def resume_writing(self) -> None:
        if self.writable is not None and not self.writable.done():
            self.writable.set_result(None)
        self.writable = None

    # what the parser calls

    def on_message_begin(self) -> None:
        if self.complete:
            self.keep = False  # more than one answer to one request: none of it may reach another caller

    def on_header(self, name: bytes, value: bytes) -> None:
        if self.complete:
            return
        self.head_bytes += len(name) + len(value)
        if self.head_bytes > MOST_HEAD:
            raise ValueError("header fields are too large")
        self.headers.append((name.lower(), value))

    def on_headers_complete(self) -> None:
        if self.complete:
            return
        status = self.parser.get_status_code()
        if status < 200:
            self.headers = []
            return
        self.status = status
        self.keep = self.parser.should_keep_alive()
        for name, _ in self.headers:
            if name == b"content-length" or name == b"transfer-encoding":
                self.bounded = True
        if self.is_head or status in _NO_BODY:
            self.bounded = True
        self.head_done = True
        if self.is_head:
            self.complete = True
        self._wake()

    def on_body(self, body: bytes) -> None:
        if self.complete:
            self.keep = False
            return
        self.body.append(body)
        self.held += len(body)
        if self.held > HIGH_WATER and not self.paused:
            self.paused = True
            self.transport.pause_reading()
        self._wake()

    def on_message_complete(self) -> None:
        if self.head_done:
            self.complete = True
            self._wake()

    # what the call does

    def _wake(self) -> None:
        waiter = self.waiter
        if waiter is not None and not waiter.done():
            waiter.set_result(None)

    def _fail(self, failure: UpstreamError) -> None:
        if self.failure is None:
            self.failure = failure
        self.keep = False
        self._wake()
        if self.writable is not None and not self.writable.done():
            self.writable.set_result(None)
        if not self.lost:
            self.transport.abort()

    def expire(self) -> None:
        """Called by the sweep when the time is up."""
        step = "in the middle of its answer" if self.head_done else "before it answered"
        self._fail(UpstreamError("slow", f"sent nothing for {self.target.address.read_timeout_s:g} s, {step}"))

    async def wait(self) -> None:
        self.waiter = self.loop.create_future()
        try:
            await self.waiter
        finally:
            self.waiter = None

    def whole(self) -> bytes | None:
        if not self.complete:
            return None
        body = self.body
        return body[0] if len(body) == 1 else b"".join(body)

    async def chunks(self) -> AsyncIterator[bytes]:
        while True:
            while self.body:
                chunk = self.body.popleft()
                self.held -= len(chunk)
                yield chunk
                if self.paused and self.held < HIGH_WATER // 2 and not self.lost:
                    self.paused = False
                    self.deadline = self.loop.time() + self.target.address.read_timeout_s
                    self.transport.resume_reading()
            if self.failure is not None:
                raise self.failure
            if self.complete:
                return
            await self.wait()

    def close(self) -> None:
        if not self.busy:
            return
        self.busy = False
        self.target.busy.discard(self)
        if self.complete and self.keep and not self.lost and self.failure is None:
            self.body.clear()
            self.idle_since = self.loop.time()
            self.target.idle.append(self)
        elif not self.lost:
            self.transport.abort()


class _Target:
    """The connections to one target."""

    def __init__(self, address: TargetAddress, loop: asyncio.AbstractEventLoop) -> None:
        self.address = address
        self.loop = loop
        self.idle: list[_Connection] = []
        self.busy: set[_Connection] = set()
        self.tls: ssl.SSLContext | None = None
        if address.scheme == "https":
            self.tls = ssl.create_default_context()
            if not address.verify_tls:
                self.tls.check_hostname = False
                self.tls.verify_mode = ssl.CERT_NONE

    def take(self) -> _Connection | None:
        while self.idle:
            connection = self.idle.pop()
            if not connection.lost and not connection.transport.is_closing():
                return connection
        return None

    def forget(self, connection: _Connection) -> None:
        if connection in self.idle:
            self.idle.remove(connection)

    async def connect(self) -> _Connection:
        if len(self.busy) >= MOST_CONNECTIONS:
            raise UpstreamError("away", f"all {MOST_CONNECTIONS} connections to it are in use")
        address = self.address
        connection = _Connection(self, self.loop)
        try:
            async with asyncio.timeout(address.connect_timeout_s):
                await self.loop.create_connection(
                    lambda: connection,
                    address.host,
                    address.port,
                    ssl=self.tls,
                    server_hostname=address.host if self.tls else None,
                )
        except TimeoutError as error:
            raise UpstreamError("slow", f"took no connection within {address.connect_timeout_s:g} s") from error
        except ssl.SSLError as error:
            raise UpstreamError("away", f"TLS failed: {error.reason or error}") from error
        except OSError as error:
            raise UpstreamError("away", f"took no connection: {error.strerror or error}") from error
        return connection

    def sweep(self, now: float) -> None:
        for connection in [c for c in self.busy if c.deadline and now > c.deadline and not c.paused]:
            connection.expire()
        while self.idle and now - self.idle[0].idle_since > IDLE_S:
            self.idle.pop(0).transport.abort()


class PooledUpstream:
    """An `Upstream` on kept connections, for one event loop."""

    def __init__(self) -> None:
        self._targets: dict[TargetAddress, _Target] = {}
        self._sweeping: asyncio.TimerHandle | None = None
        self._loop: asyncio.AbstractEventLoop | None = None

    async def send(
        self,
        target: TargetAddress,
        method: str,
        head: bytes,
        body: AsyncIterator[bytes] | None = None,
        chunked: bool = False,
        repeatable: bool = False,
    ) -> Answer:
        """See `Upstream.send`."""
        pool = self._targets.get(target)
        if pool is None:
            pool = self._open(target)
        connection = pool.take() or await pool.connect()
        while True:
            connection._reset(method)
            connection.busy = True
            pool.busy.add(connection)
            connection.deadline = pool.loop.time() + target.read_timeout_s
            connection.transport.write(head)
            try:
                if body is not None:
                    await _write_body(connection, body, chunked)
                while not connection.head_done and connection.failure is None:
                    await connection.wait()
            except BaseException:
                connection.keep = False
                connection.close()
                raise
            failure = connection.failure
            if failure is None or connection.head_done:
                connection.used = True
                return connection
            again = connection.used and repeatable and body is None and failure.failure == "broken"
            connection.close()
            if not again or connection.head_bytes:
                raise failure
            connection = await pool.connect()

    def _open(self, address: TargetAddress) -> _Target:
        if self._loop is None:
            self._loop = asyncio.get_running_loop()
            self._sweeping = self._loop.call_later(SWEEP_S, self._sweep)
        target = self._targets[address] = _Target(address, self._loop)
        return target

    def _sweep(self) -> None:
        assert self._loop is not None
        now = self._loop.time()
        for target in self._targets.values():
            target.sweep(now)
        self._sweeping = self._loop.call_later(SWEEP_S, self._sweep)

    async def close(self) -> None:
        """See `Upstream.close`."""
        if self._sweeping is not None:
            self._sweeping.cancel()
        for target in self._targets.values():
            for connection in [*target.idle, *target.busy]:
                connection.transport.abort()


async def _write_body(connection: _Connection, body: AsyncIterator[bytes], chunked: bool) -> None:
    """Send a request's body as it comes, no faster than the target takes it; stop where it answers early."""
    transport = connection.transport
    async for chunk in body:
        if connection.head_done or connection.failure is not None:
            connection.keep = False
            return
        if chunk:
            transport.write(b"%x\r\n%b\r\n" % (len(chunk), chunk) if chunked else chunk)
        if connection.writable is not None:
            connection.deadline = connection.loop.time() + connection.target.address.read_timeout_s
            await connection.writable
        connection.deadline = 0.0  # from here the caller is waited for, not the target
    connection.deadline = connection.loop.time() + connection.target.address.read_timeout_s
    if chunked and connection.failure is None:
        transport.write(b"0\r\n\r\n")
