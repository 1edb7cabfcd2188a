"""One connection of a caller: requests are read from it one after another, strictly, and answered in their order.

A head is kept until it is whole and then read by httptools (llhttp); bodies are read by their framing. While a call is
under way nothing behind its request is read: what comes early waits, bounded. Every wait has an end, kept by the
server's sweep (`gateway.wire.server`), not by a timer for each connection.
"""

from __future__ import annotations

import asyncio
from typing import TYPE_CHECKING, Final, cast

import httptools

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.request_head import BadHead, read_head
from tamarack.core.certificates.certificate import Certificate
from tamarack.core.http.chunked import LAST_CHUNK, BadFraming, ChunkedReader
from tamarack.core.http.fields import TOKEN, Header
from tamarack.core.http.heads import HeadFields
from tamarack.gateway.wire.client_certificates import shown_on

if TYPE_CHECKING:
    from tamarack.gateway.driver import NodeDriver
    from tamarack.gateway.wire.server import CallerServer

MOST_AHEAD: Final = 65_536
"""Bytes kept of what comes before it can be read: a body nobody asked for yet, or the next requests."""
MOST_KEPT: Final = 2_048
"""Bytes of header fields that are kept with a connection, so that the same ones are not read again."""
CHUNKS_AT_ONCE: Final = 512
"""Chunks of a body that are read in one turn of the loop: many small ones take a while, and others have their turn."""
_HEAD_END: Final = b"\r\n\r\n"
_SHORTEST: Final = len(b"GET / HTTP/1.1\r\n")
_AS_MOSTLY: Final = b" HTTP/1.1\r\n"
_BLANKS: Final = (b" ", b"\t")
_CONTINUE: Final = b"HTTP/1.1 100 Continue\r\n\r\n"

_NO_END: Final = 1 << 62
MOST_LINGERING: Final = 4_000_000
"""Bytes thrown away after a call was answered, so that the caller reads its answer; who sends more is cut off."""

IDLE, HEAD, CALL, LINGER, CLOSED = "idle", "head", "call", "linger", "closed"
"""What a connection does: wait for a request; read its head; carry a call; read the rest of its body; nothing more."""


class CallerConnection(asyncio.Protocol):
    """One connection. The driver carries its calls, one at a time."""

    __slots__ = (
        "_again",
        "_behind",
        "_body_began",
        "_body_bytes",
        "_chunks",
        "_expects",
        "_fields",
        "_fresh",
        "_going_on",
        "_held",
        "_keep",
        "_left",
        "_lingered",
        "_paused_at",
        "_read_of_again",
        "_reading",
        "_target",
        "address",
        "body_done",
        "certificate",
        "deadline",
        "driver",
        "full",
        "loop",
        "parser",
        "server",
        "state",
        "transport",
        "wants_body",
    )

    def __init__(self, server: CallerServer, loop: asyncio.AbstractEventLoop) -> None:
        self.server = server
        self.loop = loop
        self.transport: asyncio.Transport = None  # type: ignore[assignment]
        self.parser: httptools.HttpRequestParser = None
        self.driver: NodeDriver = server.new_driver(self)
        self.address = ""
        self.certificate: Certificate | None = None
        """What the caller showed over TLS."""
        self.state = IDLE
        self.deadline = 0.0
        """When what is waited for has to be here, by the loop's clock; 0 for no end."""
        self.full = False
        """The caller takes less than is sent."""
        self.body_done = True
        """The request's body is read to its end."""
        self.wants_body = False
        self._held = b""
        self._fields: list[Header] = []
        self._again = b""
        """The fields of an earlier request as they came, with their blank line; empty where none are kept."""
        self._read_of_again: HeadFields | None = None
        self._target = b""
        self._fresh = True
        self._keep = True
        self._expects = False
        self._left = 0
        self._lingered = 0
        self._chunks: ChunkedReader | None = None
        self._reading = True
        self._going_on = False
        self._behind = False
        self._paused_at = 0.0
        self._body_began = 0.0
        self._body_bytes = 0

    # what asyncio calls

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self.transport = cast(asyncio.Transport, transport)  # uvloop's is one by its methods, not by its class
        peer = transport.get_extra_info("peername")
        self.address = peer[0] if peer else ""
        if self.server.asks_certificates:
            self.certificate = shown_on(transport)
        if not self.server.opened(self):
            self.state = CLOSED
            transport.close()
            return
        self.parser = httptools.HttpRequestParser(self)
        self.deadline = self.server.late

    def connection_lost(self, exc: Exception | None) -> None:
        before, self.state = self.state, CLOSED
        self.deadline = 0.0
        self.server.closed(self)
        if before == CALL:
            self.driver.gone()
        self.driver.connection = None
        self.parser = None  # it holds this connection, and this connection it
        self._held = b""

    def eof_received(self) -> bool:
        return False  # a caller that sends no more is taken to have left

    def pause_writing(self) -> None:
        self.full = True
        if self.state == CALL:
            self.deadline = self.loop.time() + self.server.limits.stall_s

    def resume_writing(self) -> None:
        self.full = False
        if self.state == CALL:
            self.deadline = 0.0
            self.driver.writable()

    def data_received(self, data: bytes) -> None:
        state = self.state
        if self._held:
            data = self._held + data
            self._held = b""
        elif state == IDLE:
            line = self._known_from(data)
            if line or (
                data[-4:] == _HEAD_END
                and data.find(_HEAD_END) == len(data) - 4
                and len(data) <= self.server.limits.head
                and data[0] not in b"\r\n"
            ):
                self._read_head(data, line)  # one whole head and nothing else, as mostly
                return
        if state in (IDLE, HEAD):
            self._head(data)
        elif state != CLOSED:
            self._behind_head(data)

    # heads

    def on_url(self, url: bytes) -> None:
        self._target = url

    def on_header(self, name: bytes, value: bytes) -> None:
        if value[-1:] in _BLANKS:  # what stands around a value is no part of it (RFC 9110, 5.5)
            value = value.strip(b" \t")
        self._fields.append((name.lower(), value))

    def _head(self, data: bytes) -> None:
        if self.state == IDLE:
            if data[0] in b"\r\n":  # empty lines before a request are passed over (RFC 9112, 2.2); they begin nothing
                data = data.lstrip(b"\r\n")
                if not data:
                    return
            self.state = HEAD
            self.deadline = self.loop.time() + self.server.limits.head_s
        end = data.find(_HEAD_END)
        most = self.server.limits.head
        if end < 0 or end > most:
            self._part_of_head(data, most)
            return
        end += 4
        if end == len(data):
            self._read_head(data)
        else:
            self._held = data[end:]
            self._read_head(data[:end])

    def _part_of_head(self, data: bytes, most: int) -> None:
        """A head that is not whole yet, or never will be."""
        line = data.find(b"\r\n")
        if len(data) > most:
            before_fields = line < 0 or line > self.server.limits.target
            self._refuse("target-too-long" if before_fields else "head-too-large")
        elif data.count(b"\n") != data.count(b"\r\n") or TOKEN.match(data) is None:
            self._refuse("ambiguous-request")
        else:
            self._held = data

    def _read_head(self, head: bytes, line: int = 0) -> None:
        """Read a whole head, and carry its call. From `line` on, where it is given, its fields are known."""
        headers: list[Header] = []
        self._fields = headers
        parser = self.parser
        if not self._fresh:
            parser = self.parser = httptools.HttpRequestParser(self)
            self._fresh = True
        driver = self.driver
        call = driver.new_call()
        upgrade = False
        fields: HeadFields | None = None
        if line:
            fields = self._read_of_again
        else:
            line = head.find(b"\r\n") + 2
        try:
            parser.feed_data(head if fields is None else head[:line] + b"\r\n")
            if fields is None:
                fields = self._read_fields(headers, head, line)
            version = "1.1" if head[max(0, line - 11) : line] == _AS_MOSTLY else parser.get_http_version()
            read_head(call, parser.get_method(), self._target, version, fields, self.server.limits.target)
        except BadHead as error:
            self._refuse(error.reason, call)
            return
        except httptools.HttpParserUpgrade:
            upgrade = True
        except httptools.HttpParserInvalidMethodError:
            named = TOKEN.match(head)
            known = named is not None and head[named.end() : named.end() + 1] == b" "
            self._refuse("unknown-method" if known else "ambiguous-request", call)
            return
        except httptools.HttpParserError:
            self._refuse("ambiguous-request", call)
            return
        if len(headers) > self.server.limits.fields:
            self._refuse("head-too-large", call)
            return
        if upgrade and not self._read_upgrade(call, fields if fields is not None else HeadFields(headers)):
            return
        self.state = CALL
        self.deadline = 0.0
        self._keep = call.keep_alive
        self._expects = call.expects and call.length != 0
        self.body_done = True
        length = call.length
        if length:
            self._fresh = False  # the parser waits for the body, which is read here
            self.body_done = self.wants_body = False
            self._left = length
            self._chunks = ChunkedReader() if length < 0 else None
            self._body_bytes = 0
        driver.begin(call)

    def _known_from(self, data: bytes) -> int:
        """Where the fields begin of one whole head whose fields are known; 0 where it is not that, or more."""
        again = self._again
        line = len(data) - len(again)
        if not again or line < _SHORTEST or data[line:] != again or data.find(b"\r\n") != line - 2:
            return 0
        return line if data[0] not in b"\r\n" and len(data) <= self.server.limits.head else 0

    def _read_fields(self, headers: list[Header], head: bytes, line: int) -> HeadFields:
        """What fields say, that begin at this place of a head; kept where the next request may have the same."""
        fields = HeadFields(headers)
        if len(head) - line <= MOST_KEPT and len(headers) <= self.server.limits.fields and fields.may_come_again:
            self._again = head[line:]
            self._read_of_again = fields
        return fields

    def _read_upgrade(self, call: Call, fields: HeadFields) -> bool:
        """Read the head of a request that asks for another protocol: it is answered in this one, and the connection
        ends, so that nothing behind it is read. False where it is refused."""
        self._fresh = False
        try:
            version = self.parser.get_http_version()
            read_head(call, self.parser.get_method(), self._target, version, fields, self.server.limits.target)
        except BadHead as error:
            self._refuse(error.reason, call)
            return False
        call.keep_alive = False
        if call.length:
            self._refuse("ambiguous-request", call)
            return False
        return True

    def _refuse(self, reason: str, call: Call | None = None) -> None:
        """Answer a request that is not carried, and close: what follows on the connection is not read."""
        self.state = CALL
        self.deadline = 0.0
        self._held = b""
        self._expects = False
        self._read_off()
        self.driver.refuse(call if call is not None else self.driver.new_call(), reason)

    # bodies

    def want_body(self) -> None:
        """The driver wants the request's body, piece by piece."""
        if not self.wants_body:
            self.wants_body = True
            if self._expects:
                self._expects = False
                self.transport.write(_CONTINUE)
            self._body_began = self.loop.time()
        self.flow(True)  # first: what the gateway itself let wait is not the caller's slowness
        self._watch_body()
        if self._held:
            self._go_on_soon()

    def flow(self, on: bool) -> None:
        """Read from the caller, or let it wait."""
        if on != self._reading and not self.transport.is_closing():
            self._reading = on
            if on:
                if self._paused_at:
                    self._body_began += self.loop.time() - self._paused_at  # what it waited is not its own slowness
                    self._paused_at = 0.0
                if not self._behind:
                    self.transport.resume_reading()
                if self._held:
                    self._go_on_soon()
            else:
                self._paused_at = self.loop.time()
                if not self._behind:
                    self.transport.pause_reading()

    def _lag(self, behind: bool) -> None:
        """More chunks are here than were read, or no more so: until they are read the socket is left alone."""
        if behind != self._behind:
            self._behind = behind
            if self._reading and not self.transport.is_closing():
                if behind:
                    self.transport.pause_reading()
                else:
                    self.transport.resume_reading()
        if behind:
            self._go_on_soon()

    def hold_body(self) -> None:
        """The driver takes no more of the body for now."""
        self.flow(False)
        self.deadline = 0.0

    def _watch_body(self) -> None:
        """Set until when a body has to have gone on: no long pause, and the lowest rate once the grace is over."""
        limits = self.server.limits
        by_rate = self._body_began + limits.grace_s + self._body_bytes / limits.lowest_rate
        self.deadline = min(self.loop.time() + limits.stall_s, by_rate)

    def _go_on(self) -> None:
        self._going_on = False
        if self._held and self.state != CLOSED:
            self.data_received(b"")

    def _behind_head(self, data: bytes) -> None:
        """What came while a call is under way: its body, or what has to wait until it is answered."""
        if self.body_done or not (self.wants_body or self.state == LINGER) or not self._reading:
            self._held = data
            if len(data) > MOST_AHEAD:
                self.flow(False)
            return
        if not data:
            return
        if self._chunks is None:
            piece = data[: self._left] if len(data) > self._left else data
            self._left -= len(piece)
            self.body_done = not self._left
            self._held = data[len(piece) :]
        else:
            try:
                piece = self._chunks.feed(data, CHUNKS_AT_ONCE)
            except BadFraming:
                self._bad_body()
                return
            self.body_done = self._chunks.done
            self._held = self._chunks.rest
            self._lag(bool(self._held) and not self.body_done)
        if self.state == LINGER:
            self._lingered += len(data) - len(self._held)
            if self._lingered > MOST_LINGERING:
                self.abort()
                return
            if self.body_done:
                self.state = CALL
                self.finished()
            return
        self._body_bytes += len(piece)
        if self.body_done:
            self.deadline = 0.0
        else:
            self._watch_body()
        self.driver.body(piece, self.body_done)

    def _read_off(self) -> None:
        """What follows has no meaning: it is thrown away until the connection ends."""
        self._keep = False
        self._held = b""
        self._chunks = None
        self._left = _NO_END
        self._lag(False)
        self.body_done = False

    def _bad_body(self) -> None:
        """The body cannot be read: its call ends, and so does the connection."""
        self._read_off()
        if self.state == CALL:
            self.driver.bad_body("ambiguous-request")

    # answers

    def respond(self, head: bytes, body: bytes) -> None:
        """Send a whole answer: its status line and fields without their blank line, and its body."""
        if self.state != CALL:
            return
        if self._keep and not self._expects and not self.server.draining:
            self.transport.write(head + self.server.blank + body)
        else:
            self._keep = False
            self.transport.write(head + b"connection: close\r\n" + self.server.blank + body)

    def start(self, head: bytes, chunked: bool) -> None:
        """Send the head of an answer whose body comes piece by piece."""
        if chunked:
            head += b"transfer-encoding: chunked\r\n"
        if not self._keep or self._expects or self.server.draining:
            self._keep = False
            head += b"connection: close\r\n"
        self.transport.write(head + self.server.blank)

    def close_after(self) -> None:
        """The connection ends with this answer."""
        self._keep = False

    def send(self, data: bytes) -> None:
        """Send what follows the head of an answer."""
        self.transport.write(data)

    def end_chunks(self) -> None:
        """The chunks are complete."""
        self.transport.write(LAST_CHUNK)

    def abort(self) -> None:
        """Close at once: the answer cannot be completed, which only closing tells."""
        self.state = CLOSED
        self.deadline = 0.0
        self.transport.abort()

    def close(self) -> None:
        """Close when what was written is sent."""
        self.state = CLOSED
        self.deadline = self.loop.time() + self.server.limits.stall_s
        self.transport.close()

    def finished(self) -> None:
        """The call is answered: the next one, after the rest of this one's body."""
        if self.state != CALL:
            return
        if not self.body_done:
            self._linger()
        elif not self._keep or self.server.draining:
            self.close()
        else:
            self.state = IDLE
            self.deadline = self.server.late
            if not self._reading:
                self._paused_at = 0.0
                self.flow(True)
            if self._held:
                self._go_on_soon()

    def _linger(self) -> None:
        """Read the rest of a body and throw it away, for a while, so that the caller reads its answer."""
        self.state = LINGER
        self._lingered = 0
        self.deadline = self.loop.time() + self.server.limits.linger_s
        self.flow(True)
        if not self._keep and self.transport.can_write_eof():
            self.transport.write_eof()  # the answer is read to its end before the connection is closed
        if self._held:
            self._go_on_soon()

    def _go_on_soon(self) -> None:
        """Look at what came already, in the loop's next turn."""
        if not self._going_on:
            self._going_on = True
            self.loop.call_soon(self._go_on)

    # time

    def expire(self) -> None:
        """What was waited for did not come in time."""
        self.deadline = 0.0
        if self.state == CALL and not self.full:
            self.driver.bad_body("slow-request")
        elif self.state == CALL or self.state == CLOSED:
            self.abort_call()
        else:
            self.close()

    def abort_call(self) -> None:
        """The caller takes nothing of its answer: it is cut off, and must not hold a target's connection."""
        driver = self.driver
        was_call = self.state == CALL
        self.abort()
        if was_call:
            driver.gone()
