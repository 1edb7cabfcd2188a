"""The node's driver: carries the calls of one connection, one after another, and answers what their programs need.

What can be answered at once (a count in memory, a body that is here) is answered within the callback in which the head
was parsed; else the program is parked, and resumed by the callback that brings the answer. The driver names no policy
kind: it knows needs, and three ways to end. However a call ends, it is recorded in one place.
"""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Coroutine
from time import perf_counter_ns, time
from types import CoroutineType
from typing import TYPE_CHECKING, Any, Final

import orjson

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.forwarding import Filter, Passed
from tamarack.core.carrying.needs import (
    Ask,
    Failed,
    Hold,
    Look,
    Need,
    ReadAnswer,
    ReadBody,
    Refresh,
    Take,
)
from tamarack.core.carrying.parts import Reply
from tamarack.core.carrying.program import FAILURES, Operation, Outcome, Program
from tamarack.core.carrying.receiving import receive
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.http.addresses import caller_address
from tamarack.core.http.chunked import LAST_CHUNK, chunk
from tamarack.core.http.heads import Answered
from tamarack.core.identity.lookups import FetchKeys, FindToken
from tamarack.core.nodes.own_paths import LIVE, OWN, READY
from tamarack.core.told.problems import STATUS_LINES
from tamarack.core.traffic.record import CALLER_GONE
from tamarack.core.trying.node_request import PATH as NODE_PATH
from tamarack.gateway.upstream.interface import Exchange

if TYPE_CHECKING:
    from tamarack.gateway.gateway import Gateway
    from tamarack.gateway.wire.connection import CallerConnection

PREFETCH: Final = 65_536
"""Bytes of a body that are here before a target's connection is taken for it."""

_STOPPED: Final = Refusal(REASONS["node-stopped"], ((b"retry-after", b"1"),))
_NOT_READY: Final = Refusal(REASONS["not-ready"], ((b"retry-after", b"1"),))
_TOO_LARGE: Final = Refusal(REASONS["too-large"])
_INTERNAL: Final = Refusal(REASONS["internal-error"])
_NO_BODY: Final = frozenset((204, 304))
_LENGTH: Final = b"content-length: %d\r\n"
_clock_ns: Final = perf_counter_ns
_PARKED: Final[Any] = object()
"""A need that is not answered yet."""
READING, BODY_AHEAD, SENDING, ANSWERING, COLLECTING, STREAMING, ELSEWHERE = range(7)
"""What a parked program waits for: the body whole; enough of it to take a target's connection; the rest of it, and the
answer; the answer; the answer whole; nothing any more, for the answer passes; or something beside the call."""


class NodeDriver:
    """Carries the calls of one connection. It is used again for each of them."""

    __slots__ = (
        "_ahead",
        "_ahead_size",
        "_ask",
        "_at_most",
        "_chunked",
        "_exchange",
        "_filter",
        "_head_sent",
        "_operation",
        "_program",
        "_task",
        "_waits_for",
        "call",
        "connection",
        "gateway",
    )

    def __init__(self, gateway: Gateway, connection: CallerConnection) -> None:
        self.gateway = gateway
        self.connection: CallerConnection | None = connection
        self.call: Call = None  # type: ignore[assignment]
        self._program: Program | None = None
        self._operation: Operation | None = None
        self._exchange: Exchange | None = None
        self._task: asyncio.Task[Any] | None = None
        self._ask: Ask | None = None
        self._waits_for = ELSEWHERE
        self._ahead: list[bytes] = []
        """What came of the request's body, or of the answer's, and did not go on yet."""
        self._ahead_size = 0
        self._at_most = 0
        self._head_sent = False
        """Whether the caller was sent the head of an answer."""
        self._chunked = False
        self._filter: Filter | None = None
        """What changes the answer's body as it passes."""

    # a call begins

    def new_call(self) -> Call:
        """A call that came just now."""
        gateway = self.gateway
        now = time()
        connection = self.connection
        assert connection is not None
        return Call(
            gateway.new_call_id(now), now, _clock_ns(), connection.address, connection.server.scheme,
            connection.certificate,
        )  # fmt: skip

    def begin(self, call: Call) -> None:
        """Carry a call whose head was read."""
        self.call = call
        self._head_sent = False
        gateway = self.gateway
        try:
            if gateway.trusted:
                call.address = caller_address(call.address, call.headers, gateway.trusted)
            serving = gateway.serving
            if (serving is None or gateway.leaving) and self._ended_here(call):
                return
            call.rollout = serving.number  # type: ignore[union-attr]
            found = receive(serving.router, call)  # type: ignore[union-attr]
            if type(found) is not Operation:
                if not call.path.startswith(OWN) or not self._asked_of_node(call):
                    self._end(found)  # type: ignore[arg-type]
                return
            call.operation = self._operation = found
            if call.ticket or gateway.tracing.on:
                gateway.begin_trace(call)
            call.ended_at[1] = _clock_ns()
            self._program = found.run(call)
        except Exception as error:
            self._broke(error)
            return
        self._resume(None)

    def _ended_here(self, call: Call) -> bool:
        """The node has nothing to serve, or is leaving: its connections end with their answers, and where it was asked
        to stop, so does the call. False where it still carries it."""
        gateway = self.gateway
        if gateway.leaving:
            self.connection.close_after()  # type: ignore[union-attr]
        if gateway.serving is not None and gateway.standing != "stopped":
            return False
        if not call.path.startswith(OWN) or not self._asked_of_node(call):
            self._end(_NOT_READY if gateway.serving is None else _STOPPED)
        return True

    def _asked_of_node(self, call: Call) -> bool:
        """Answer what is asked of the node itself: whether it lives, whether it is ready, and what the console asks.
        None of it is a call, so none is recorded. False where it is something else."""
        gateway = self.gateway
        if call.path == NODE_PATH and gateway.asked_by_console(call):
            self._beside(gateway.answer_console(call), self._answered_console)
            return True
        if call.path not in (LIVE, READY) or call.method not in ("GET", "HEAD"):
            return False
        why = gateway.ready() if call.path == READY else ""
        body = orjson.dumps({"status": "not ready", "why": why} if why else {"status": call.path[11:].decode()})
        self._answer_itself(503 if why else 200, b"" if call.method == "HEAD" else body, len(body))
        return True

    def refuse(self, call: Call, reason: str) -> None:
        """Answer and record a request that was refused before it became a call."""
        self.call = call
        self._head_sent = False
        call.keep_alive = False
        call.path = call.path or b""
        self._end(Refusal(REASONS[reason]))

    def _resume(self, answer: Any) -> None:
        """Go on with the program, up to its next need that has to wait."""
        try:
            send = self._program.send  # type: ignore[union-attr]
            while answer is not _PARKED:
                need = send(answer)
                answer = _ANSWERS[type(need)](self, need)
        except Exception as error:
            self._broke(error)

    def _ended(self, outcome: Refusal | Reply) -> Any:
        """The program has ended without an answer of the backend's to pass on."""
        self._program = None
        self._end(outcome)
        return _PARKED

    def _passes(self, passed: Passed) -> Any:
        """The program has ended with the backend's answer."""
        self._program = None
        self._pass(passed)
        return _PARKED

    def _beside(self, work: Coroutine[Any, Any, Any], then: Any) -> None:
        """Do something that takes time, and go on with what it found."""
        self._waits_for = ELSEWHERE
        task = self._task = asyncio.get_running_loop().create_task(work)
        task.add_done_callback(then)

    def _resumed(self, task: asyncio.Task[Any]) -> None:
        if task is not self._task:
            return  # the call has ended meanwhile
        self._task = None
        if task.cancelled():
            return
        error = task.exception()
        if error is not None:
            self._broke(error)
        else:
            self._resume(task.result())

    # limits and keys

    def _take(self, need: Take) -> Any:
        metering = self.gateway.metering
        call = self.call
        if metering.shared is None and not need.meter.smooth:
            return metering.local.take(call.asked, call.now)
        self._beside(metering.decide(need.meter, call), self._resumed)
        return _PARKED

    def _hold(self, need: Hold) -> Any:
        self._beside(asyncio.sleep(need.ms / 1000), self._resumed)
        return _PARKED

    def _look(self, need: Look) -> Any:
        found = self.gateway.caches.look(need.lookup, self.call.now)
        if type(found) is not CoroutineType:
            return found
        self._beside(found, self._resumed)
        return _PARKED

    def _refresh(self, need: Refresh) -> Any:
        self.gateway.caches.refresh(self.gateway, need, self.call.now)
        return None

    def _fetch_keys(self, need: FetchKeys) -> Any:
        self._beside(self.gateway.key_sets.wait_for(need.url, need.kid, self.call.now), self._resumed)
        return _PARKED

    def _find_token(self, need: FindToken) -> Any:
        self._beside(self.gateway.tokens.find(need.token), self._resumed)
        return _PARKED

    # the request's body

    def _read_body(self, need: ReadBody) -> Any:
        call = self.call
        if call.length > need.at_most:
            return None
        self._waits_for = READING
        self._at_most = need.at_most
        assert self.connection is not None
        self.connection.want_body()
        return _PARKED

    def body(self, piece: bytes, done: bool) -> None:
        """More of the request's body has come; `done` with the last of it."""
        call = self.call
        call.received_bytes += len(piece)
        operation = self._operation
        if operation is None or self._waits_for > SENDING:
            return  # the answer is under way, or has been: the rest of the body is thrown away
        if call.received_bytes > operation.body_limit:
            self._body_too_large()
        elif self._waits_for == SENDING:
            self._send_on(piece, done)
        elif self._waits_for == READING or self._waits_for == BODY_AHEAD:
            self._ahead.append(piece)
            self._ahead_size += len(piece)
            self._look_ahead(done)

    def _look_ahead(self, done: bool) -> None:
        """Go on where enough of the body is here."""
        connection = self.connection
        assert connection is not None
        if self._waits_for == READING:
            if self._ahead_size > self._at_most:
                connection.hold_body()
                self._waits_for = ELSEWHERE
                self._resume(None)
            elif done:
                whole = b"".join(self._ahead)
                self._ahead = []
                self._waits_for = ELSEWHERE
                self._resume(whole)
        elif done or self._ahead_size >= PREFETCH:
            if not done:
                connection.hold_body()
            try:
                self._take_connection(done)
            except Exception as error:
                self._broke(error)

    def _body_too_large(self) -> None:
        """More came than the operation takes: the program hears it, or, where it waits no more, the call just ends."""
        self._let_go()
        self._ahead = []
        if self._head_sent:
            self._cut_off("too-large")
        elif self._program is not None:
            self._resume(_TOO_LARGE)

    def bad_body(self, reason: str) -> None:
        """The request's body cannot be read, or came too slowly: the call ends with that."""
        if self._head_sent and reason == "slow-request":
            return  # the answer does not depend on it any more
        if self._program is not None:
            self._program.close()
            self._program = None
        self._let_go()
        if self._head_sent:
            self._cut_off(reason)
        else:
            assert self.connection is not None
            self.connection.close_after()
            self._end(Refusal(REASONS[reason]))

    # to the target

    def _send(self, ask: Ask) -> Any:
        call = self.call
        if self._exchange is not None:  # an answer that was not taken: the call is asked again
            self._exchange.close()
            self._exchange = None
            self._ahead = []
            self._ahead_size = 0
        if ask.body is not None or call.length == 0:
            self._waits_for = ANSWERING
            exchange = self.gateway.upstream.ask(ask, self)
            if type(exchange) is Failed:
                return exchange
            self._exchange = exchange  # type: ignore[assignment]
            return _PARKED
        self._ask = ask
        ask.chunked = call.length < 0
        self._waits_for = BODY_AHEAD
        connection = self.connection
        assert connection is not None
        if connection.body_done or self._ahead_size >= PREFETCH:
            return self._first_part(connection.body_done)
        connection.want_body()
        return _PARKED

    def _take_connection(self, done: bool) -> None:
        answer = self._first_part(done)
        if answer is not _PARKED:
            self._resume(answer)

    def _first_part(self, done: bool) -> Any:
        """Send the head and what is here of the body."""
        ask = self._ask
        assert ask is not None
        body = b"".join(self._ahead)
        self._ahead = []
        if ask.chunked and body:
            body = chunk(body)
        if ask.chunked and done:
            body += LAST_CHUNK
        ask.body = body
        ask.more = ask.streamed = not done
        self._waits_for = ANSWERING if done else SENDING
        exchange = self.gateway.upstream.ask(ask, self)
        if type(exchange) is Failed:
            return exchange
        self._exchange = exchange  # type: ignore[assignment]
        if ask.more and exchange.open:  # type: ignore[union-attr]
            self.drained()
        return _PARKED

    def _send_on(self, piece: bytes, done: bool) -> None:
        """Send more of the body, no faster than the target takes it."""
        exchange, connection = self._exchange, self.connection
        assert connection is not None
        if exchange is None or not exchange.open:
            self._ahead.append(piece)
            connection.hold_body()
            return
        room = exchange.send(piece) if piece else True
        if done:
            self._waits_for = ANSWERING
            exchange.finish()
        elif not room:
            connection.hold_body()

    def moved(self, exchange: Exchange) -> None:
        """See `Listener.moved`."""
        self._exchange = exchange
        if exchange.open:
            self.drained()

    def drained(self) -> None:
        """See `Listener.drained`."""
        connection = self.connection
        if self._waits_for != SENDING or connection is None:
            return
        if self._ahead:
            piece, self._ahead = b"".join(self._ahead), []
            self._send_on(piece, connection.body_done)
        if self._waits_for == SENDING and not connection.body_done:
            connection.want_body()

    # the answer

    def answered(self, answer: Answered) -> None:
        """See `Listener.answered`. A target that answers before it took all of the body is heard at once."""
        if self._waits_for == SENDING:
            self._ahead = []
            if self.connection is not None:
                self.connection.flow(True)
        self._waits_for = ELSEWHERE
        if self.call.trace is not None:
            self.call.trace.answer = answer.headers
        self._resume(answer)

    def piece(self, data: bytes) -> None:
        """See `Listener.piece`."""
        if self._waits_for == COLLECTING:
            self._ahead.append(data)
            self._ahead_size += len(data)
            if self._ahead_size > self._at_most:
                self._waits_for = ELSEWHERE
                if self._exchange is not None:
                    self._exchange.pause()
                self._resume(None)
        elif self._waits_for == STREAMING:
            self._pass_on(data)
        else:
            self._ahead.append(data)

    def ended(self) -> None:
        """See `Listener.ended`."""
        if self._waits_for == COLLECTING:
            self._waits_for = ELSEWHERE
            whole = b"".join(self._ahead)
            self._ahead = []
            self._resume(whole)
        elif self._waits_for == STREAMING:
            if self._filter is not None:
                self._pass_the_rest(self._filter)
            if self._chunked and self.connection is not None:
                self.connection.end_chunks()
            self._done(True)

    def failed(self, failure: Failed) -> None:
        """See `Listener.failed`."""
        self._exchange = None
        if self._waits_for == STREAMING:
            self.call.note = failure.step
            self._cut_off(FAILURES[failure.failure].reason.code)  # only closing tells that the rest is missing
        else:
            self._waits_for = ELSEWHERE
            self._resume(failure)

    def _read_answer(self, need: ReadAnswer) -> Any:
        self._ahead = []
        self._ahead_size = 0
        self._at_most = need.at_most
        self._waits_for = COLLECTING
        return _PARKED

    def _pass_on(self, data: bytes) -> None:
        """Send a piece of the answer on, no faster than the caller takes it."""
        call, connection = self.call, self.connection
        if connection is None or not data:
            return
        for one in call.watching:
            one.piece(data)
        if self._filter is not None:
            data = self._filter.piece(data)
            if not data:
                return
        call.sent_bytes += len(data)
        connection.send(chunk(data) if self._chunked else data)
        if connection.full and self._exchange is not None:
            self._exchange.pause()

    def _pass_the_rest(self, last: Filter) -> None:
        """Send what was held back of an answer that has ended."""
        self._filter = None
        rest, connection = last.end(), self.connection
        if rest and connection is not None:
            self.call.sent_bytes += len(rest)
            connection.send(chunk(rest) if self._chunked else rest)

    def writable(self) -> None:
        """The caller takes more again."""
        if self._exchange is not None:
            self._exchange.resume()

    # a call ends

    def _end(self, outcome: Refusal | Reply) -> None:
        """Answer the caller without the backend."""
        call, connection = self.call, self.connection
        self._let_go()
        if connection is None:
            self._done(False)
            return
        if type(outcome) is Refusal:
            reply = self.gateway.problems.reply(outcome, call)
        else:
            reply = outcome  # type: ignore[assignment]
        body = reply.body
        call.status = reply.status
        call.sent_bytes = len(body)
        length = b"" if reply.status in _NO_BODY else _LENGTH % len(body)
        dated = b"" if reply.dated else b"date: %b\r\n" % self.gateway.date(call.now)
        head = b"%b%b%b%b%b" % (STATUS_LINES[reply.status], reply.fields, length, dated, call.own_fields())
        self._head_sent = True
        connection.respond(head, b"" if call.method == "HEAD" else body)
        self._done(True)

    def _pass(self, passed: Passed) -> None:
        """Pass the backend's answer on."""
        call, connection = self.call, self.connection
        assert connection is not None
        status = call.status = passed.status
        head = STATUS_LINES[status] + passed.fields
        if not passed.dated:
            head += b"date: %b\r\n" % self.gateway.date(call.now)
        head += call.own_fields()
        body = passed.body
        self._head_sent = True
        if body is not None:
            for one in call.watching:
                one.piece(body)
            if passed.filter is not None:
                body = passed.filter.piece(body) + passed.filter.end()
            call.sent_bytes = len(body)
            if not passed.has_length and call.method != "HEAD" and status not in _NO_BODY:
                head += _LENGTH % len(body)
            connection.respond(head, body)
            self._done(True)
            return
        self._chunked = not passed.has_length
        if self._chunked and call.old:
            self._chunked = False  # a caller that knows no chunks takes the close as the end
            connection.close_after()
        connection.start(head, self._chunked)
        self._filter = passed.filter
        self._waits_for = STREAMING
        if self._ahead:  # it was looked into, and is longer than what looked takes
            ahead, self._ahead = self._ahead, []
            for piece in ahead:
                self._pass_on(piece)
        if self._exchange is not None and not connection.full:
            self._exchange.resume()

    def _done(self, complete: bool) -> None:
        """The call is over: what it cost is counted, it is recorded, and the connection goes on."""
        call = self.call
        exchange = self._exchange
        if exchange is not None:
            self._exchange = None
            exchange.close()
        ended_at = call.ended_at
        ended = _clock_ns()
        call.total_us = (ended - ended_at[0]) // 1000
        if call.answered:
            ended_at[8] = ended
            if self._waits_for == STREAMING:
                ended_at[7] = ended
                call.backend_us = (ended - call.asked_at) // 1000
        gateway = self.gateway
        operation = self._operation
        if operation is not None:
            if operation.settles:
                gateway.settle(operation, call, complete)
                if call.lookup is not None:
                    gateway.caches.ended(call.lookup)
            self._operation = None
            self._waits_for = ELSEWHERE
            self._ask = None
            self._filter = None
            if self._ahead_size:
                self._ahead = []
                self._ahead_size = 0
            if self._task is not None:
                self._let_go()
        gateway.record(call, operation)
        connection = self.connection
        if connection is not None:
            connection.finished()

    def _let_go(self) -> None:
        """End whatever is waited for."""
        exchange = self._exchange
        if exchange is not None:
            self._exchange = None
            exchange.close()
        task = self._task
        if task is not None:
            self._task = None
            task.cancel()

    def _cut_off(self, reason: str) -> None:
        """The answer has begun and cannot be completed."""
        self.call.reason = reason
        connection = self.connection
        if connection is not None:
            connection.abort()
        self._done(False)

    def gone(self) -> None:
        """The caller went away."""
        if self._program is not None:
            self._program.close()
            self._program = None
        self.connection = None
        if not self._head_sent:
            self.call.status = CALLER_GONE
        task = self._task
        if task is not None:  # it tells first how long the call was held
            self._task = None
            task.add_done_callback(lambda _: self._done(False))
            task.cancel()
        else:
            self._done(False)

    def _broke(self, error: BaseException) -> None:
        """Something went wrong that nobody thought of: the caller is told, the call is recorded, and it is logged."""
        self._program = None
        call = self.call
        self.gateway.log_error(call, error)
        self._let_go()
        if self._head_sent:
            self._cut_off("internal-error")
            return
        try:
            self._end(_INTERNAL)
        except Exception as second:
            self.gateway.log_error(call, second)
            if self.connection is not None:
                self.connection.abort()

    def _answered_console(self, task: asyncio.Task[Any]) -> None:
        """Send what the console asked of the node itself. It is no call, and is not recorded."""
        if task is not self._task:
            return
        self._task = None
        connection = self.connection
        if task.cancelled() or connection is None:
            return
        if task.exception() is not None:
            self._broke(task.exception())  # type: ignore[arg-type]
            return
        body = task.result()
        self._answer_itself(200, body, len(body))

    def _answer_itself(self, status: int, body: bytes, length: int) -> None:
        connection = self.connection
        assert connection is not None
        head = b"%bcontent-type: application/json\r\ncache-control: no-store\r\n%b"
        connection.respond(head % (STATUS_LINES[status], _LENGTH % length), body)
        connection.finished()


_ANSWERS: Final[dict[type[Need | Outcome], Callable[[NodeDriver, Any], Any]]] = {
    Take: NodeDriver._take,
    Ask: NodeDriver._send,
    ReadBody: NodeDriver._read_body,
    FetchKeys: NodeDriver._fetch_keys,
    FindToken: NodeDriver._find_token,
    ReadAnswer: NodeDriver._read_answer,
    Look: NodeDriver._look,
    Hold: NodeDriver._hold,
    Refresh: NodeDriver._refresh,
    Refusal: NodeDriver._ended,
    Reply: NodeDriver._ended,
    Passed: NodeDriver._passes,
}
"""How each need is answered, at once or later (`_PARKED`); and what is done where the program has ended."""
