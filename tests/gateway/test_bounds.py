"""Peers that never end, on either side: everything they can send is bounded in bytes, number and time."""

import gc
import os
import socket
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest

from gateway.harness import KEY, Backend, Caller, Node, running
from gateway.test_carry import PATH, answering, post, raw
from gateway.test_pool import OK, on
from helpers import configuration, until
from tamarack.core.carrying.needs import Ask, Failed
from tamarack.core.http.reach import EVERYWHERE
from tamarack.core.http.target import target_at
from tamarack.gateway.upstream import pool as pool_module
from tamarack.gateway.upstream.pool import PooledUpstream, TargetConnections
from tamarack.gateway.upstream.scripted import ScriptedUpstream
from tamarack.gateway.wire.connection import CHUNKS_AT_ONCE

OPEN = "/sailings/v2/ports"


def resident() -> int:
    """This process's memory in bytes."""
    return int(Path("/proc/self/statm").read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE")


def pour(node: Node, start: bytes, piece: bytes, most: int = 20_000_000) -> int:
    """Send without end; how much the node took before it closed, or gave an answer."""
    with node.caller() as caller:
        caller.send(start)
        caller.socket.settimeout(20)
        sent = 0
        try:
            while sent < most:
                caller.socket.sendall(piece)
                sent += len(piece)
        except OSError:
            pass
        return sent


ENDLESS = {
    "trailers": (post("Transfer-Encoding: chunked", b"0\r\n"), b"x: " + b"y" * 997 + b"\r\n"),
    "one trailer": (post("Transfer-Encoding: chunked", b"0\r\nx: "), b"y" * 1000),
    "trailers of an unknown path": (raw("POST /nowhere HTTP/1.1\nHost: a\nTransfer-Encoding: chunked", b"0\r\n"),
                                    b"x: y\r\n" * 100),
    "extensions": (post("Transfer-Encoding: chunked", b""), b"1;" + b"x" * 997 + b"\r\na\r\n"),
    "one extension": (post("Transfer-Encoding: chunked", b"1;"), b"x" * 1000),
    "a head": (b"GET / HTTP/1.1\r\nHost: a\r\n", b"x: " + b"y" * 997 + b"\r\n"),
    "one field": (b"GET / HTTP/1.1\r\nHost: a\r\nx: ", b"y" * 1000),
}  # fmt: skip


@pytest.mark.parametrize("what", ENDLESS)
def test_a_caller_that_sends_without_end_is_cut_off(what: str) -> None:
    start, piece = ENDLESS[what]
    with running(configuration(), ScriptedUpstream(answering), limits={"linger_s": 0.2}) as node:
        before = resident()
        assert pour(node, start, piece) < 20_000_000
        assert resident() - before < 15_000_000
        assert node.get(OPEN).status == 200


@pytest.mark.parametrize(("target", "status"), [(PATH, 200), ("/nowhere", 404)])
def test_many_small_chunks_are_read_in_turns_to_the_last_and_what_is_behind_them_is_answered(
    target: str, status: int
) -> None:
    upstream = ScriptedUpstream(answering)
    many = CHUNKS_AT_ONCE * 20 + 7
    with running(configuration(), upstream) as node, node.caller() as caller:
        head = raw(f"POST {target} HTTP/1.1\nHost: a\nX-Skerry-Key: {KEY}\nTransfer-Encoding: chunked")
        next_one = raw(f"GET {OPEN} HTTP/1.1\nHost: a")
        caller.send(head + b"1\r\nx\r\n" * many + b"0\r\n\r\n" + next_one * 2)
        assert [caller.receive().status for _ in range(3)] == [status, 200, 200]
        assert [asked.body for asked in upstream.asked if asked.method == "POST"] == [b"x" * many] * (status == 200)


def test_a_head_has_at_most_so_many_fields() -> None:
    with running(configuration(), ScriptedUpstream(answering)) as node:
        many = "\n".join(f"x{n}: {n}" for n in range(300))
        assert node.ask(raw(f"GET {OPEN} HTTP/1.1\nHost: a\n{many}")).problem["reason"] == "head-too-large"


def test_empty_lines_keep_no_idle_connection_open() -> None:
    with running(configuration(), ScriptedUpstream(answering), limits={"idle_s": 0.4}) as node, node.caller() as caller:
        began = time.monotonic()
        with pytest.raises(OSError):
            while time.monotonic() - began < 15:
                caller.socket.sendall(b"\r\n")
                caller.socket.settimeout(0.05)
                try:
                    if caller.socket.recv(1) == b"":
                        raise ConnectionResetError
                except TimeoutError:
                    pass


def test_a_body_that_drips_is_ended_by_the_lowest_rate_and_holds_no_target() -> None:
    backend = Backend([])
    upstream = PooledUpstream(EVERYWHERE)
    limits = {"grace_s": 0.4, "lowest_rate": 1000}
    with running(on(backend.port), upstream, limits=limits) as node, node.caller() as caller:
        caller.send(post("Content-Length: 100000", b""))
        replies: list[Any] = []
        reading = threading.Thread(target=lambda: replies.append(caller.receive()))
        reading.start()
        for _ in range(400):
            if replies:
                break
            caller.socket.sendall(b"x")
            assert upstream.in_use() == 0
            time.sleep(0.01)  # the drip itself: what is tested is a rate
        reading.join(10)
        assert (replies[0].status, replies[0].problem["reason"]) == (408, "slow-request")
        assert node.last_record(replies[0]["tamarack-call-id"]).reason == "slow-request"
    backend.close()


def test_a_small_body_is_here_in_full_before_a_target_is_asked() -> None:
    backend = Backend([])
    with running(on(backend.port), PooledUpstream(EVERYWHERE)) as node, node.caller() as caller:
        caller.send(post("Content-Length: 5", b"abc"))
        assert node.get(OPEN).status == 200
        assert backend.connections == 1
        assert caller.ask(b"de").status == 200
        assert backend.received[-1].endswith(b"abcde")
    backend.close()


class Talker:
    """A backend that does what a function says with each connection."""

    def __init__(self, talk: Callable[[socket.socket], None]) -> None:
        self.listener = socket.create_server(("127.0.0.1", 0))
        self.port = self.listener.getsockname()[1]
        self.talk = talk
        self.ended = threading.Event()
        threading.Thread(target=self.work, daemon=True).start()

    def work(self) -> None:
        while True:
            try:
                connection, _ = self.listener.accept()
            except OSError:
                return
            threading.Thread(target=self.one, args=(connection,), daemon=True).start()

    def one(self, connection: socket.socket) -> None:
        with connection:
            try:
                connection.recv(65536)
                self.talk(connection)
            except OSError:
                pass
            self.ended.set()


@contextmanager
def talking(talk: Callable[[socket.socket], None], read_ms: int = 5000) -> Iterator[tuple[Node, Talker]]:
    backend = Talker(talk)
    try:
        with running(on(backend.port, read_ms), PooledUpstream(EVERYWHERE)) as node:
            yield node, backend
    finally:
        backend.listener.close()


def endlessly(start: bytes, piece: bytes) -> Callable[[socket.socket], None]:
    def talk(connection: socket.socket) -> None:
        connection.sendall(start)
        for _ in range(20_000):
            connection.sendall(piece)

    return talk


@pytest.mark.parametrize(
    ("start", "piece"),
    [
        (b"HTTP/1.1 200 OK\r\nx: ", b"y" * 1000), (b"HTTP/1.1 200 OK\r\n", b"x: " + b"y" * 997 + b"\r\n"),
        (b"", b"HTTP/1.1 103 Early Hints\r\nlink: x\r\n\r\n"),
        (b"HTTP/1.1 200 OK\r\n" + b"".join(b"x%d: y\r\n" % n for n in range(400)) + b"\r\n", b""),
    ],
)  # fmt: skip
def test_a_backend_whose_head_does_not_end_is_broken(start: bytes, piece: bytes) -> None:
    with talking(endlessly(start, piece)) as (node, _):
        before = resident()
        assert node.get(PATH).problem["reason"] == "backend-broken"
        assert resident() - before < 15_000_000


def test_a_backend_that_drips_its_head_is_slow_however_often_it_says_something() -> None:
    def talk(connection: socket.socket) -> None:
        for _ in range(400):
            connection.sendall(b"HTTP/1.1 100 Continue\r\n\r\n"[:1])
            time.sleep(0.01)  # the drip itself

    with talking(talk, read_ms=300) as (node, _):
        assert node.get(PATH).problem["reason"] in ("backend-slow", "backend-broken")


@pytest.mark.parametrize(
    ("answer", "reason"),
    [
        (b"HTTP/1.1 999 Odd\r\ncontent-length: 0\r\n\r\n", "backend-broken"),
        (b"HTTP/1.1 099 Odd\r\ncontent-length: 0\r\n\r\n", "backend-broken"),
        (b"HTTP/1.1 200 OK\r\ntransfer-encoding: gzip\r\n\r\nx", "backend-broken"),
        (b"HTTP/1.1 200 OK\r\ntransfer-encoding: gzip, chunked\r\n\r\n0\r\n\r\n", "backend-broken"),
    ],
)
def test_an_answer_that_has_no_one_reading_is_not_passed_on(answer: bytes, reason: str) -> None:
    with talking(lambda connection: connection.sendall(answer)) as (node, _):
        reply = node.get(PATH)
        assert (reply.status, reply.problem["reason"]) == (502, reason)


@pytest.mark.parametrize("cut", [1, 7, 10_000])
def test_trailers_of_an_answer_never_become_fields_however_they_are_cut(cut: int) -> None:
    whole = (b"HTTP/1.1 200 OK\r\ntransfer-encoding: chunked\r\ntrailer: set-cookie\r\n\r\n3\r\nabc\r\n0\r\n"
             b"Set-Cookie: session=forged\r\nLocation: /evil\r\n\r\n")  # fmt: skip

    def talk(connection: socket.socket) -> None:
        connection.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        for place in range(0, len(whole), cut):
            connection.sendall(whole[place : place + cut])

    with talking(talk) as (node, _):
        reply = node.get(PATH)
        assert (reply.status, reply.body) == (200, b"abc")
        assert not {"set-cookie", "location", "trailer"} & {name for name, _ in reply.fields}


@pytest.mark.parametrize("expect", ["", "\nExpect: 100-continue"])
def test_a_backend_that_answers_early_is_heard_while_the_body_still_comes(expect: str) -> None:
    answer = b"HTTP/1.1 413 Too Large\r\ncontent-length: 3\r\n\r\nbig"

    def talk(connection: socket.socket) -> None:
        connection.sendall(answer)
        while connection.recv(65536):  # a backend that closed with bytes unread would reset its own answer
            pass

    with talking(talk) as (node, _), node.caller() as caller:
        caller.send(post(f"Content-Length: 900000{expect}", b""))
        if expect:
            assert caller.stream.readline().startswith(b"HTTP/1.1 100")
            caller.stream.readline()
        caller.send(b"x" * 100_000)
        reply = caller.receive()
        assert (reply.status, reply.body) == (413, b"big")


@pytest.mark.parametrize("body", [(), (b"x" * 200_000,)])
def test_a_caller_that_leaves_ends_the_call_whatever_its_method(body: tuple[bytes, ...]) -> None:
    waited = threading.Event()

    def talk(connection: socket.socket) -> None:
        waited.set()
        while connection.recv(65536):
            pass

    with talking(talk, read_ms=60_000) as (node, backend):
        with node.caller() as caller:
            length = len(b"".join(body)) + (5 if body else 0)
            caller.send(post(f"Content-Length: {length}", b"".join(body)))
            assert waited.wait(10)
        until(lambda: [one for one in node.records if one.status == 499], "the record of the call")
        assert backend.ended.wait(10)


def test_a_reset_in_the_middle_of_answers_loses_no_record() -> None:
    with talking(lambda connection: connection.recv(1) and None, read_ms=60_000) as (node, _):
        caller = Caller(node.port)
        caller.send(raw(f"GET {OPEN} HTTP/1.1\nHost: a") * 3)
        caller.socket.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, b"\1\0\0\0\0\0\0\0")
        caller.stream.close()
        caller.socket.close()
        until(lambda: [one for one in node.records if one.status == 499], "the record of the call under way")


def test_a_late_second_answer_is_never_given_to_another_caller() -> None:
    late = threading.Event()

    def talk(connection: socket.socket) -> None:
        connection.sendall(OK)
        connection.sendall(b"HTTP/1.1 200 OK\r\ncontent-length: 6\r\n\r\npoison")
        late.set()
        connection.recv(65536)

    with talking(talk) as (node, _), node.caller() as caller:
        for _ in range(20):
            late.clear()
            reply = caller.ask(raw(f"GET {OPEN} HTTP/1.1\nHost: a"))
            assert (reply.status, reply.body) == (200, b"ok")
            assert late.wait(10)  # it is at the node before the next call takes a connection


class _Waiting:
    """A listener that hears nothing."""

    def __getattr__(self, name: str) -> Any:
        return lambda *args: None


def test_connections_to_a_target_are_shared_fairly(monkeypatch: pytest.MonkeyPatch) -> None:
    """One caller alone may hold half of them; each further one still finds some."""
    monkeypatch.setattr(pool_module, "MOST_CONNECTIONS", 60)

    class Loop:
        def time(self) -> float:
            return 0.0

        def create_task(self, work: Any) -> None:
            work.close()

    target = target_at("http://127.0.0.1:9", 1000, 1000)
    connections = TargetConnections(target, Loop(), EVERYWHERE)  # type: ignore[arg-type]

    def held(owner: str) -> int:
        asks = [connections.ask(Ask(target, "GET", b"", None, owner), _Waiting()) for _ in range(100)]  # type: ignore[arg-type]
        got = [one for one in asks if not isinstance(one, Failed)]
        for one in got:
            one.close()  # its caller leaves: what is being made goes on being counted, so nobody makes ever more of it
        return len(got)

    taken = [held(owner) for owner in ("busy", "second", "third", "fourth")]
    assert taken[0] == 30
    assert all(taken)
    assert sum(taken) <= 60


def test_a_call_for_which_there_is_no_room_is_told_to_come_again() -> None:
    def full(asked: Any) -> Failed:
        return Failed("busy", "no room")

    with running(configuration(), ScriptedUpstream(full)) as node:
        reply = node.get(PATH)
        assert (reply.status, reply.problem["reason"], reply["retry-after"]) == (503, "backend-busy", "1")
        assert KEY.encode() not in reply.body


def test_neither_calls_nor_callers_that_leave_leave_anything_to_the_collector_of_cycles() -> None:
    heard: list[int] = []
    closed: list[int] = []

    def talk(connection: socket.socket) -> None:
        heard.append(1)
        while connection.recv(65536):
            pass

    def hear(connection: socket.socket) -> None:
        try:
            talk(connection)
        finally:
            closed.append(1)

    nowhere = raw("GET /nowhere HTTP/1.1\nHost: a")
    with talking(hear, read_ms=60_000) as (node, _):
        gc.collect()
        gc.disable()
        gc.set_debug(gc.DEBUG_SAVEALL)
        try:
            for _ in range(3):
                before = len(heard)
                with node.caller() as caller:
                    assert caller.ask(nowhere).status == 404
                    caller.send(raw(f"GET {PATH} HTTP/1.1\nHost: a\nX-Skerry-Key: {KEY}"))
                    until(lambda: len(heard) > before, "the call at the backend")  # noqa: B023
            until(lambda: len(closed) == 3, "the end of the last connection")
            assert node.ask(nowhere).status == 404
            gc.collect()
            left = [one for one in gc.garbage if type(one).__module__.partition(".")[0] in ("tamarack", "httptools")]
        finally:
            gc.set_debug(0)
            gc.garbage.clear()
            gc.enable()
        assert left == []
