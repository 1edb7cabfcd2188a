"""The server's reading of requests, stricter than the library's own.

uvicorn on httptools (llhttp) already refuses a length together with chunks, bare line feeds and unknown
transfer codings. This adds what HTTP asks of a gateway: exactly one Host (RFC 9112, section 3.2), an
origin-form target or an absolute one that agrees with Host (3.2.2), a bounded head, a time limit for it,
and no switching of protocols. What is refused here is answered as problem details like every refusal.
"""

import asyncio
from collections.abc import Callable
from typing import Any

import httptools
from uvicorn.protocols.http.httptools_impl import HttpToolsProtocol, RequestResponseCycle

from tamarack.gateway.problem import STATUS_LINES

STALL_S = 60.0
"""Seconds a caller may take nothing of an answer that is waiting for it."""

LINGER_S = 5.0
"""Seconds that a body is read on and thrown away after its call was answered."""

RefuseHead = Callable[[str, str], tuple[int, bytes, bytes]]
"""Given a reason and the caller's address: the status, header fields and body to answer with."""


class Cycle(RequestResponseCycle):  # type: ignore[misc]
    """One request and its answer, with a way to send a whole answer in one write."""

    task: asyncio.Task[None]
    waiting = False
    """Set while only the target is waited for: a caller that goes away then ends the call."""

    def respond(self, head: bytes, body: bytes) -> None:
        """Send a whole answer: its status line and fields without their blank line, and its body.

        Fewer writes than ASGI's two messages, and no second look at fields that were parsed or made here.
        """
        if self.disconnected:
            return
        self.response_started = self.response_complete = True
        self.waiting_for_100_continue = False
        transport = self.transport
        if self.keep_alive:
            transport.write(head + b"\r\n" + body)
        else:
            transport.write(head + b"connection: close\r\n\r\n" + body)
        self.message_event.set()
        if not self.keep_alive:
            transport.close()
        self.on_response()

    def start_streaming(self, head: bytes, has_length: bool, no_body: bool) -> bool:
        """Send the head of an answer whose body comes piece by piece; returns whether it goes in chunks."""
        chunked = not has_length and not no_body and self.scope["method"] != "HEAD"
        if chunked and self.scope["http_version"] == "1.0":
            chunked = self.keep_alive = False  # a caller that knows no chunks takes the close as the end
        self.response_started = True
        self.waiting_for_100_continue = False
        if chunked:
            head += b"transfer-encoding: chunked\r\n"
        if not self.keep_alive:
            head += b"connection: close\r\n"
        if not self.disconnected:
            self.transport.write(head + b"\r\n")
        return chunked

    async def stream(self, chunk: bytes, chunked: bool) -> None:
        """Send a piece of the body, when the caller has taken what went before."""
        if self.flow.write_paused and not self.disconnected:
            try:
                async with asyncio.timeout(STALL_S):
                    await self.flow.drain()
            except TimeoutError:
                self.cut_off()  # a caller that takes nothing must not hold a target's connection
        if not self.disconnected:
            self.transport.write(b"%x\r\n%b\r\n" % (len(chunk), chunk) if chunked else chunk)

    def end_streaming(self, chunked: bool) -> None:
        """The body is complete."""
        if self.disconnected:
            return
        if chunked:
            self.transport.write(b"0\r\n\r\n")
        self.response_complete = True
        self.message_event.set()
        if not self.keep_alive:
            self.transport.close()
        self.on_response()

    def cut_off(self) -> None:
        """Close at once: the answer cannot be completed."""
        self.disconnected = True
        self.transport.abort()


class StrictProtocol(HttpToolsProtocol):  # type: ignore[misc]
    """One connection of a caller. `configure` makes the class that a server uses."""

    head_limit = 32_768
    head_timeout_s = 10.0
    most_connections = 10_000
    refuse_head: RefuseHead

    cycle: Any
    headers: list[tuple[bytes, bytes]]
    scope: Any
    _linger_timer: asyncio.TimerHandle | None = None
    _in_body = False
    _head_timer: asyncio.TimerHandle | None = None
    _in_head = False
    _head_bytes = 0
    _refused = False

    @classmethod
    def configure(
        cls, head_limit: int, head_timeout_s: float, most_connections: int, refuse_head: RefuseHead
    ) -> type["StrictProtocol"]:
        """A protocol class with these limits."""
        fields = {
            "head_limit": head_limit,
            "head_timeout_s": head_timeout_s,
            "most_connections": most_connections,
            "refuse_head": staticmethod(refuse_head),
        }
        return type("ConfiguredProtocol", (cls,), fields)

    def connection_made(self, transport: Any) -> None:
        super().connection_made(transport)
        if len(self.connections) > self.most_connections:
            self._refused = True
            transport.close()
            return
        self._start_head_timer()

    def connection_lost(self, exc: Exception | None) -> None:
        self._stop_head_timer()
        self._stop_linger_timer()
        super().connection_lost(exc)
        cycle = self.cycle
        if cycle is not None and cycle.waiting and not cycle.response_complete:
            cycle.task.cancel()  # nobody waits for what the target would answer

    def data_received(self, data: bytes) -> None:
        if self._refused:
            return
        self._unset_keepalive_if_required()
        in_body = self._in_body
        try:
            self.parser.feed_data(data)
        except httptools.HttpParserUpgrade:
            pass  # the answer closes the connection; nothing after the request is read
        except httptools.HttpParserError:
            if not self._refused:
                self._refuse("ambiguous-request")
            return
        if self._in_head:
            if not in_body:  # else most of it may have been the body before
                self._head_bytes += len(data)
            if self._head_bytes > self.head_limit:
                self._refuse("head-too-large")
            elif self._head_timer is None:
                self._start_head_timer()

    def on_message_begin(self) -> None:
        self._stop_linger_timer()
        self._in_head = True
        self._head_bytes = 0
        self.url = b""
        self.expect_100_continue = False
        self.headers = []

    def on_headers_complete(self) -> None:
        self._in_head = False
        self._in_body = True
        self._stop_head_timer()
        if self._refused:
            return
        headers = self.headers
        version = self.parser.get_http_version()
        hosts = 0
        host = b""
        size = len(self.url)
        body = chunked = False
        for name, value in headers:
            size += len(name) + len(value) + 4
            if name == b"host":
                hosts += 1
                host = value
            elif name == b"transfer-encoding":
                body = chunked = True
            elif name == b"content-length":
                body = body or value != b"0"
        if size > self.head_limit:
            self._refuse("head-too-large")
            return
        if (hosts != 1 and (hosts or version != "1.0")) or (chunked and version == "1.0"):
            self._refuse("ambiguous-request")
            return
        target = self.url
        if not target.startswith(b"/"):
            target = _settle(target, host)
            if not target:
                self._refuse("ambiguous-request")
                return
        upgrade = self.parser.should_upgrade()
        if upgrade and body:
            self._refuse("ambiguous-request")
            return
        path, _, query = target.partition(b"?")
        self.scope = {
            "type": "http",
            "http_version": version,
            "method": self.parser.get_method().decode("ascii"),
            "scheme": self.scheme,
            "raw_path": path,
            "query_string": query.partition(b"#")[0],
            "headers": headers,
            "client": self.client,
            "server": self.server,
        }
        existing = self.cycle
        cycle = self.cycle = Cycle(
            scope=self.scope,
            transport=self.transport,
            flow=self.flow,
            logger=self.logger,
            access_logger=self.access_logger,
            access_log=False,
            default_headers=[],
            message_event=asyncio.Event(),
            expect_100_continue=self.expect_100_continue,
            keep_alive=version != "1.0" and not upgrade and self.parser.should_keep_alive(),
            on_response=self.on_response_complete,
        )
        self.scope["tamarack.cycle"] = cycle
        if existing is None or existing.response_complete:
            self._start_asgi_task(cycle, self.app)
        else:
            self.flow.pause_reading()
            self.pipeline.appendleft((cycle, self.app))

    def _start_asgi_task(self, cycle: Any, app: Any) -> None:
        task = cycle.task = self.loop.create_task(cycle.run_asgi(app))
        self.tasks.add(task)
        task.add_done_callback(self.tasks.discard)

    def on_body(self, body: bytes) -> None:
        if not self._refused:
            super().on_body(body)

    def on_message_complete(self) -> None:
        self._in_body = False
        self._stop_linger_timer()
        if not self._refused:
            super().on_message_complete()

    def on_response_complete(self) -> None:
        """Let a caller that was answered early finish its body for a while, so that it reads the answer."""
        super().on_response_complete()
        if self._in_body and not self.transport.is_closing():
            self._linger_timer = self.loop.call_later(LINGER_S, self._head_too_slow)

    def _refuse(self, reason: str) -> None:
        """Answer a request that is not carried, and close: what follows on the connection is not read."""
        self._refused = True
        self._in_head = False
        self._stop_head_timer()
        if self.transport.is_closing():
            return
        status, fields, body = self.refuse_head(reason, self.client[0] if self.client else "")
        head = STATUS_LINES[status] + fields + b"content-length: %d\r\nconnection: close\r\n\r\n" % len(body)
        if self.cycle is None or self.cycle.response_complete:
            self.transport.write(head + body)
        self.transport.close()

    def _stop_linger_timer(self) -> None:
        if self._linger_timer is not None:
            self._linger_timer.cancel()
            self._linger_timer = None

    def _start_head_timer(self) -> None:
        self._head_timer = self.loop.call_later(self.head_timeout_s, self._head_too_slow)

    def _stop_head_timer(self) -> None:
        if self._head_timer is not None:
            self._head_timer.cancel()
            self._head_timer = None

    def _head_too_slow(self) -> None:
        self._head_timer = None
        if not self.transport.is_closing():
            self.transport.close()


def _settle(target: bytes, host: bytes) -> bytes:
    """The origin form of an absolute target whose authority is the one in Host; empty where it is not."""
    scheme, separator, rest = target.partition(b"://")
    if not separator or scheme.lower() not in (b"http", b"https"):
        return b""
    place = min((p for p in (rest.find(b"/"), rest.find(b"?")) if p >= 0), default=len(rest))
    if rest[:place].lower() != host.lower():
        return b""
    origin = rest[place:]
    return origin if origin.startswith(b"/") else b"/" + origin
