"""One connection to a target: it carries one exchange at a time, and is used again.

Heads are read by httptools (llhttp), bodies by their framing. Everything a target can send is bounded: the bytes of a
head and the time for it, interim answers, chunk extensions and trailers.
"""

from __future__ import annotations

import asyncio
import select
from typing import TYPE_CHECKING, Final, cast

import httptools

from tamarack.core.carrying.needs import Ask, Failed
from tamarack.core.http.chunked import LAST_CHUNK, BadFraming, ChunkedReader, chunk
from tamarack.core.http.fields import Header, listed
from tamarack.core.http.heads import Answered, AnswerHead
from tamarack.gateway.upstream.interface import Listener

if TYPE_CHECKING:
    from tamarack.gateway.upstream.pool import TargetConnections

MOST_HEAD: Final = 65_536
"""Bytes of an answer's status line and fields."""
MOST_KEPT: Final = 4_096
"""Bytes of a head that is kept, so that the same one is not read again."""
MOST_FIELDS: Final = 256
"""Fields of an answer."""
MOST_INTERIM: Final = 8
"""Interim (1xx) answers before the final one. They are not passed on."""
_NO_BODY: Final = frozenset((204, 304))
_HEAD_END: Final = b"\r\n\r\n"
_AS_MOSTLY: Final = b"HTTP/1.1 "
_WHOLE, _SIZED, _CHUNKED, _UNTIL_CLOSE = range(4)
"""How an answer's body ends: it has none (more); by its length; by its chunks; with the connection."""


class ReadHead(AnswerHead):
    """A head as a target sent it, and how its body ends. The next that is the same byte for byte is not read again."""

    __slots__ = ("chunked", "keeps", "length", "other_coding", "raw", "size")

    def __init__(self, raw: bytes, status: int, headers: list[Header], persistent: bool) -> None:
        super().__init__(status, headers)
        self.raw = raw
        self.size = len(raw)
        named = dict(headers)
        self.length = int(named[b"content-length"]) if b"content-length" in named else -1
        self.chunked = b"transfer-encoding" in named
        self.other_coding = self.chunked and [
            value.strip().lower() for name, value in headers if name == b"transfer-encoding"
        ] != [b"chunked"]
        self.keeps = persistent
        """Whether the connection can carry the next exchange (RFC 9112, 9.3)."""
        if b"connection" in named:
            tokens = listed(headers, b"connection")
            self.keeps = b"close" not in tokens and (persistent or b"keep-alive" in tokens)


class TargetConnection(asyncio.Protocol):
    """An `Exchange`, once it was started."""

    __slots__ = (
        "_answer",
        "_ask",
        "_chunks",
        "_fields",
        "_framing",
        "_full",
        "_held",
        "_interim",
        "_keep",
        "_left",
        "_looks",
        "_paused",
        "_waiting",
        "answered",
        "complete",
        "deadline",
        "ends_at",
        "idle_since",
        "listener",
        "loop",
        "lost",
        "made_at",
        "owner",
        "parser",
        "pool",
        "transport",
        "used",
    )

    open = True

    def __init__(self, pool: TargetConnections, loop: asyncio.AbstractEventLoop) -> None:
        self.pool = pool
        self.loop = loop
        self.transport: asyncio.Transport = None  # type: ignore[assignment]
        self.parser = httptools.HttpResponseParser(self)
        self.listener: Listener | None = None
        self.owner: object = None
        self.lost = False
        self.used = False
        self.made_at = loop.time()
        self.idle_since = 0.0
        self.deadline = 0.0
        self.ends_at = 0.0
        """When the whole exchange has to be over; 0 for no such bound."""
        self.answered = False
        self.complete = False
        self._ask: Ask = None  # type: ignore[assignment]
        self._answer: ReadHead = None  # type: ignore[assignment]
        self._fields: list[Header] = []
        self._framing = _WHOLE
        self._keep = False
        self._left = 0
        self._chunks: ChunkedReader | None = None
        self._held = b""
        self._interim = 0
        self._paused = False
        self._full = False
        self._waiting: list[bytes] = []
        self._looks: select.poll | None = None

    # an exchange begins and ends

    def start(self, ask: Ask, listener: Listener) -> None:
        """Send a request; what comes next is its answer."""
        self.listener = listener
        self._ask = ask
        self.answered = self.complete = self._keep = False
        self._interim = 0
        self.ends_at = self.pool.now + ask.left_s if ask.left_s else 0.0
        self.deadline = 0.0 if ask.more else self._first_by()
        self.transport.write(ask.head + ask.body if ask.body else ask.head)

    def _first_by(self) -> float:
        """By when the head of the answer has to be here."""
        limits = self._ask.limits
        return self.pool.late if limits is None or not limits.first_s else self.pool.now + limits.first_s

    def _next_by(self) -> float:
        """By when the next piece of the answer has to be here."""
        limits = self._ask.limits
        return self.pool.late if limits is None or not limits.between_s else self.pool.now + limits.between_s

    def silent(self) -> bool:
        """Whether nothing came since the last answer: bytes that nobody asked for would be taken for the next.

        Looks at the socket itself, for what came may not have been read yet. TLS may send tickets at any time.
        """
        if self.lost or self.transport.is_closing():
            return False
        looks = self._looks
        if looks is None:
            if self.pool.target.scheme == "https":
                return True
            looks = self._looks = select.poll()
            looks.register(self.transport.get_extra_info("socket").fileno(), select.POLLIN)
        return not looks.poll(0)

    def send(self, data: bytes) -> bool:
        """See `Exchange.send`."""
        if not self.lost:
            self.transport.write(chunk(data) if self._ask.chunked else data)
        return not self._full

    def finish(self) -> None:
        """See `Exchange.finish`."""
        self._ask.more = False
        if not self.lost and self._ask.chunked:
            self.transport.write(LAST_CHUNK)
        if not self.answered:
            self.deadline = self._first_by()

    def pause(self) -> None:
        """See `Exchange.pause`."""
        if not self._paused and not self.lost:
            self._paused = True
            self.deadline = 0.0  # the caller is waited for, not the target
            self.transport.pause_reading()

    def resume(self) -> None:
        """See `Exchange.resume`."""
        if self._paused:
            self._paused = False
            self.deadline = self._next_by()
            if not self.lost:
                self.transport.resume_reading()

    def close(self) -> None:
        """See `Exchange.close`."""
        if self.listener is None:
            return
        self.listener = None
        self.deadline = self.ends_at = 0.0
        self.used = True
        if self.complete and self._keep and not (self.lost or self._ask.more or self._paused):
            self.pool.released(self)
            return
        self.pool.busy.discard(self)
        if not self.lost:
            self.lost = True
            self.transport.abort()

    def expire(self) -> None:
        """The time is up."""
        step = "in the middle of its answer" if self.answered else "before it answered"
        limits = self._ask.limits
        own = 0.0 if limits is None else limits.between_s if self.answered else limits.first_s
        self._fail(Failed("slow", f"sent nothing for {own or self.pool.target.read_timeout_s:g} s, {step}"))

    def overdue(self) -> None:
        """The time for the whole of it is up."""
        limits = self._ask.limits
        whole = limits.whole_s if limits is not None else 0.0
        step = "in the middle of its answer" if self.answered else "before it answered"
        self._fail(Failed("slow", f"the whole call took longer than {whole:g} s, {step}"))

    def _fail(self, failure: Failed) -> None:
        listener = self.listener
        self.close()
        if not self.lost:
            self.lost = True
            self.transport.abort()
        if listener is not None:
            listener.failed(failure)

    # what asyncio calls

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self.transport = cast(asyncio.Transport, transport)  # uvloop's is one by its methods, not by its class

    def connection_lost(self, exc: Exception | None) -> None:
        self.lost = True
        self.parser = None  # it holds this connection, and this connection it
        self.pool.forget(self)
        listener = self.listener
        if listener is None or self.complete:
            return
        if self.answered and self._framing == _UNTIL_CLOSE and exc is None:
            self.complete = True
            listener.ended()
            return
        ask = self._ask
        if self.used and ask.repeatable and not ask.more and not self.answered and not self._held:
            self.listener = None
            self.pool.busy.discard(self)
            listener.moved(self.pool.connect(ask, listener))  # it was closed while nobody looked
            return
        where = "in the middle of its answer" if self.answered else "before it answered"
        self._fail(Failed("broken", f"closed the connection {where}"))

    def pause_writing(self) -> None:
        self._full = True

    def resume_writing(self) -> None:
        self._full = False
        if self.listener is not None:
            self.listener.drained()

    def data_received(self, data: bytes) -> None:
        listener = self.listener
        if listener is None or self.complete:
            self.lost = True  # more than was asked for: none of it may be taken for the answer to another call
            self.transport.abort()
            return
        if self.answered:
            self._body(data, listener)
            return
        known = self.pool.known
        if known is not None and not self._held and data[: known.size] == known.raw:
            self._begin(known, False, data[known.size :], listener)
            return
        start = 0
        if self._held:
            start = max(0, len(self._held) - 3)
            data = self._held + data
            self._held = b""
        while True:
            end = data.find(_HEAD_END, start) + 4
            if end < 4:
                if len(data) > MOST_HEAD:
                    self._fail(Failed("broken", f"sent more than {MOST_HEAD} bytes of header fields"))
                else:
                    self._held = data
                return
            head = self._head(data[:end])
            if head is None:
                return
            if head.status >= 200:
                if head.size <= MOST_KEPT:
                    self.pool.known = head
                self._begin(head, True, data[end:], listener)
                return
            data = data[end:]
            start = 0
            self._interim += 1
            if self._interim > MOST_INTERIM:
                self._fail(Failed("broken", f"sent more than {MOST_INTERIM} interim answers"))
                return

    # what is read

    def on_header(self, name: bytes, value: bytes) -> None:
        self._fields.append((name.lower(), value))

    def _head(self, head: bytes) -> ReadHead | None:
        """Read one head; None where it is none, and the exchange has failed."""
        self._fields = []
        try:
            self.parser.feed_data(head)
        except httptools.HttpParserUpgrade:
            why = "switched to another protocol"
        except httptools.HttpParserError as error:
            why = f"sent what is not HTTP: {error}"
        else:
            status: int = self.parser.get_status_code()
            if len(head) > MOST_HEAD or len(self._fields) > MOST_FIELDS:
                why = f"sent more than {MOST_HEAD} bytes or {MOST_FIELDS} header fields"
            elif 100 <= status < 600 and status != 101:
                kept = head.startswith(_AS_MOSTLY) or self.parser.get_http_version() == "1.1"
                return ReadHead(head, status, self._fields, kept)
            else:
                why = f"answered with the status {status}"
        self._fail(Failed("broken", why))
        return None

    def _begin(self, head: ReadHead, parsed: bool, data: bytes, listener: Listener) -> None:
        """The final answer's head is read, by the parser where it was `parsed`; `data` is what came behind it."""
        if head.other_coding:
            self._fail(Failed("broken", "answered in a transfer coding other than chunked"))
            return
        length = head.length
        self._answer = head
        self._keep = head.keeps
        self.answered = True
        if self._ask.method == "HEAD" or head.status in _NO_BODY:
            if length > 0 or head.chunked:
                self._parse_anew(parsed)  # it waits for a body that does not come
            self._whole(b"", data, listener)
        elif head.chunked:
            self._parse_anew(parsed)
            self._framing = _CHUNKED
            self._chunks = ChunkedReader()
            try:
                piece = self._chunks.feed(data)
            except BadFraming as error:
                self._fail(Failed("broken", str(error)))
                return
            if self._chunks.done:
                self._whole(piece, self._chunks.rest, listener)
            else:
                self._streamed(piece, listener)
        elif length >= 0:
            if len(data) >= length:
                rest = b""
                if len(data) > length:
                    data, rest = data[:length], data[length:]
                if length and parsed:
                    self.parser.feed_data(data)  # so that it waits for the next head
                self._whole(data, rest, listener)
            else:
                self._parse_anew(parsed)
                self._framing = _SIZED
                self._left = length - len(data)
                self._streamed(data, listener)
        else:
            self._parse_anew(parsed)
            self._framing = _UNTIL_CLOSE
            self._keep = False
            self._streamed(data, listener)

    def _parse_anew(self, parsed: bool) -> None:
        """The body is not shown to the parser: where it waits for one, another reads the next head."""
        if parsed:
            self.parser = httptools.HttpResponseParser(self)

    def _whole(self, body: bytes, rest: bytes, listener: Listener) -> None:
        """The answer is here in full. What follows it was not asked for, and costs the connection."""
        self.complete = True
        if rest:
            self._keep = False
        head = self._answer
        listener.answered(Answered(head.status, head.headers, body, head))

    def _streamed(self, piece: bytes, listener: Listener) -> None:
        """The answer's body follows. The piece that is here already comes after the head was heard."""
        self.deadline = self._next_by()
        head = self._answer
        listener.answered(Answered(head.status, head.headers, None, head))
        if piece and self.listener is listener:
            listener.piece(piece)

    def _body(self, data: bytes, listener: Listener) -> None:
        self.deadline = self._next_by()
        if self._framing == _UNTIL_CLOSE:
            listener.piece(data)
        elif self._framing == _SIZED:
            piece = data[: self._left]
            self._left -= len(piece)
            if not self._left:
                self.complete = True
                if len(data) > len(piece):
                    self._keep = False
            listener.piece(piece)
            if self.complete and self.listener is listener:
                listener.ended()
        else:
            assert self._chunks is not None
            try:
                piece = self._chunks.feed(data)
            except BadFraming as error:
                self._fail(Failed("broken", str(error)))
                return
            if self._chunks.done:
                self.complete = True
                if self._chunks.rest:
                    self._keep = False
            if piece and self.listener is listener:
                listener.piece(piece)
            if self.complete and self.listener is listener:
                listener.ended()
