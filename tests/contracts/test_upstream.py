"""What every upstream client holds to: the same answers and failures heard alike, from a real socket and from a script."""

import asyncio
import socket
from collections.abc import Callable
from contextlib import ExitStack
from dataclasses import dataclass, field
from typing import Any

import pytest
import uvloop

from gateway.harness import Backend
from helpers import apart, free_port
from tamarack.core.carrying.needs import Ask, Failed
from tamarack.core.http.heads import Answered
from tamarack.core.http.reach import EVERYWHERE
from tamarack.core.http.target import target_at
from tamarack.gateway.upstream.interface import Exchange, Upstream
from tamarack.gateway.upstream.pool import PooledUpstream
from tamarack.gateway.upstream.scripted import Asked, ScriptedAnswer, ScriptedUpstream

OK = ScriptedAnswer(200, [(b"content-length", b"2"), (b"x-a", b"1")], (b"ok",))
PIECES = ScriptedAnswer(200, [(b"transfer-encoding", b"chunked")], (b"one ", b"two"))
EMPTY = ScriptedAnswer(204, [(b"x-a", b"2")], (b"",))


def on_the_wire(answer: ScriptedAnswer | Failed) -> bytes | None:
    """An answer as a backend sends it; None to close instead."""
    if isinstance(answer, Failed):
        return None
    head = b"HTTP/1.1 %d X\r\n" % answer.status + b"".join(b"%b: %b\r\n" % one for one in answer.headers) + b"\r\n"
    if (b"transfer-encoding", b"chunked") in answer.headers:
        return head + b"".join(b"%x\r\n%b\r\n" % (len(one), one) for one in answer.pieces) + b"0\r\n\r\n"
    return head + b"".join(answer.pieces)


@dataclass
class Listening:
    """Hears an exchange, and tells what became of it."""

    exchange: Exchange | None = None
    heard: list[Any] = field(default_factory=list)
    body: bytes = b""
    over: asyncio.Event = field(default_factory=asyncio.Event)
    more: tuple[bytes, ...] = ()

    def begin(self, exchange: Exchange | Failed) -> None:
        if isinstance(exchange, Failed):
            self.failed(exchange)
            return
        self.exchange = exchange
        if exchange.open:
            self.drained()

    def moved(self, exchange: Exchange) -> None:
        self.begin(exchange)

    def drained(self) -> None:
        assert self.exchange is not None
        more, self.more = self.more, ()
        for piece in more:
            self.exchange.send(piece)
        if more:
            self.exchange.finish()

    def answered(self, answer: Answered) -> None:
        self.heard += [answer.status, [one for one in answer.headers if one[0].startswith(b"x-")]]
        if answer.body is not None:
            self.body = answer.body
            self.ended()

    def piece(self, data: bytes) -> None:
        self.body += data

    def ended(self) -> None:
        assert self.exchange is not None
        self.exchange.close()
        self.exchange.close()
        self.heard.append(self.body)
        self.over.set()

    def failed(self, failure: Failed) -> None:
        self.heard.append(failure.failure)
        self.over.set()


class Clients:
    """An upstream client of each kind, with a backend that gives these answers in turn."""

    def __init__(self, kind: str, *answers: ScriptedAnswer | Failed) -> None:
        self.backend = Backend([on_the_wire(one) for one in answers])
        self.left = list(answers)
        self.bodies: list[bytes] = []
        self.kind = kind
        self.port = (
            free_port()
            if any(isinstance(one, Failed) and one.failure == "away" for one in answers)
            else self.backend.port
        )

    def make(self) -> Upstream:
        return PooledUpstream(EVERYWHERE) if self.kind == "pooled" else ScriptedUpstream(self.script)

    def script(self, asked: Asked) -> ScriptedAnswer | Failed:
        self.bodies.append(asked.body)
        return self.left.pop(0)

    def sent(self) -> list[bytes]:
        if self.kind == "scripted":
            return self.bodies
        bodies = [one.partition(b"\r\n\r\n")[2] for one in self.backend.received]
        return [
            b"abcde" if one.startswith(b"2\r\nab\r\n3\r\ncde\r\n0\r\n") or one == b"abcde" else one for one in bodies
        ]

    def run(self, *asks: Callable[[Any], tuple[Ask, tuple[bytes, ...]]]) -> list[Any]:
        """What is heard of requests, made one after another."""

        async def work() -> list[Any]:
            upstream = self.make()
            target = target_at(f"http://127.0.0.1:{self.port}", 1000, 1000)
            heard = []
            for ask in asks:
                made, more = ask(target)
                listening = Listening(more=more)
                listening.begin(upstream.ask(made, listening))
                async with asyncio.timeout(10):
                    await listening.over.wait()
                heard.append(listening.heard)
            await upstream.close()
            return heard

        try:
            return list(apart(uvloop.run, work()))
        finally:
            self.backend.close()


def get(target: Any) -> tuple[Ask, tuple[bytes, ...]]:
    ask = Ask(target, "GET", b"GET / HTTP/1.1\r\nhost: a\r\n\r\n", None, "me")
    ask.repeatable = True  # as the program says of every GET without a body
    return ask, ()


def posting(chunked: bool, first: bytes, *more: bytes) -> Callable[[Any], tuple[Ask, tuple[bytes, ...]]]:
    def make(target: Any) -> tuple[Ask, tuple[bytes, ...]]:
        framing = b"transfer-encoding: chunked" if chunked else b"content-length: 5"
        ask = Ask(target, "POST", b"POST / HTTP/1.1\r\nhost: a\r\n%b\r\n\r\n" % framing, first, "me")
        ask.chunked, ask.more = chunked, bool(more)
        return ask, more

    return make


@pytest.fixture(params=["pooled", "scripted"])
def kind(request: pytest.FixtureRequest) -> str:
    return str(request.param)


def test_answers_are_heard_whole_or_in_pieces_one_after_another(kind: str) -> None:
    heard = Clients(kind, OK, PIECES, EMPTY, OK).run(get, get, get, get)
    assert heard[0] == [200, [(b"x-a", b"1")], b"ok"]
    assert heard[1] == [200, [], b"one two"]
    assert heard[2] == [204, [(b"x-a", b"2")], b""]
    assert heard[3] == heard[0]


@pytest.mark.parametrize(
    "ask", [posting(False, b"abcde"), posting(False, b"ab", b"c", b"de"), posting(True, b"2\r\nab\r\n", b"cde")]
)
def test_a_body_arrives_whole_whether_it_goes_at_once_or_in_pieces(kind: str, ask: Any) -> None:
    clients = Clients(kind, OK)
    assert clients.run(ask)[0][0] == 200
    assert clients.sent() == [b"abcde"]


@pytest.mark.parametrize("failure", [Failed("away", "no connection"), Failed("broken", "closed")])
def test_failures_are_heard_by_their_kind(kind: str, failure: Failed) -> None:
    assert Clients(kind, failure).run(get) == [[failure.failure]]


def test_after_a_failure_the_next_request_is_answered(kind: str) -> None:
    assert [one[0] for one in Clients(kind, Failed("broken", "closed"), OK).run(get, get)] == ["broken", 200]


def test_what_came_unasked_costs_its_connection_though_the_loop_has_not_read_it() -> None:
    """Only a look at the socket itself tells, before the next caller's request goes out on it."""
    poison = b"HTTP/1.1 200 OK\r\ncontent-length: 6\r\n\r\npoison"

    async def work() -> list[Any]:
        loop = asyncio.get_running_loop()
        with socket.create_server(("127.0.0.1", 0)) as backend, ExitStack() as connections:
            backend.setblocking(False)
            target = target_at(f"http://127.0.0.1:{backend.getsockname()[1]}", 1000, 1000)
            upstream = PooledUpstream(EVERYWHERE)
            heard = []
            try:
                for _ in range(2):
                    listening = Listening()
                    listening.begin(upstream.ask(get(target)[0], listening))
                    async with asyncio.timeout(10):
                        connection = connections.enter_context((await loop.sock_accept(backend))[0])
                        await loop.sock_recv(connection, 65_536)
                        await loop.sock_sendall(connection, on_the_wire(OK) or b"")
                        await listening.over.wait()
                    heard.append(listening.heard)
                    connection.send(poison)  # and the next is asked before the loop has a turn
            finally:
                await upstream.close()
            return heard

    assert apart(uvloop.run, work()) == [[200, [(b"x-a", b"1")], b"ok"]] * 2
