"""The pooled upstream client against real sockets that behave well and badly, through the whole gateway."""

import os
import socket
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from gateway.harness import KEY, Backend, Node, running
from helpers import configuration, free_port, until
from tamarack.core.configuration.model import Configuration
from tamarack.core.http.reach import EVERYWHERE
from tamarack.gateway.upstream.pool import PooledUpstream

PATH = "/sailings/v2/sailings"
OK = b"HTTP/1.1 200 OK\r\ncontent-length: 2\r\n\r\nok"


def on(port: int, read_ms: int = 5000) -> Configuration:
    backend = {
        "name": "timetable",
        "targets": [{"address": f"http://127.0.0.1:{port}"}],
        "connect_timeout_ms": 1000,
        "read_timeout_ms": read_ms,
    }
    return configuration(backends=[backend])


@contextmanager
def behind(*answers: bytes | None, pause_s: float = 0, read_ms: int = 5000) -> Iterator[tuple[Node, Backend]]:
    backend = Backend(list(answers), pause_s)
    try:
        with running(on(backend.port, read_ms), PooledUpstream(EVERYWHERE)) as node:
            yield node, backend
    finally:
        backend.close()


def test_connections_are_kept_and_used_again() -> None:
    with behind() as (node, backend):
        assert [node.get(PATH).body for _ in range(5)] == [b"ok"] * 5
        assert backend.connections == 1
        assert len(backend.received) == 5


def test_a_kept_connection_that_was_closed_is_replaced_without_the_caller_knowing() -> None:
    with behind(OK, None, OK) as (node, backend):
        assert node.get(PATH).status == 200
        assert node.get(PATH).status == 200
        assert backend.connections == 2
        assert len(backend.received) == 3


def test_a_post_is_never_sent_twice() -> None:
    with behind(OK, None, OK) as (node, backend):
        post = f"POST {PATH} HTTP/1.1\r\nHost: a\r\nX-Skerry-Key: {KEY}\r\nContent-Length: 2\r\n\r\nhi".encode()
        assert node.ask(post).status == 200
        assert node.ask(post).problem["reason"] == "backend-broken"
        assert len(backend.received) == 2


@pytest.mark.parametrize(
    ("answer", "status", "body"),
    [
        (b"HTTP/1.1 100 Continue\r\n\r\n" + OK, 200, b"ok"),
        (b"HTTP/1.1 103 Early Hints\r\nlink: x\r\n\r\n" + OK, 200, b"ok"),
        (b"HTTP/1.1 200 OK\r\ntransfer-encoding: chunked\r\n\r\n2\r\nok\r\n0\r\n\r\n", 200, b"ok"),
        (b"HTTP/1.1 200 OK\r\n\r\nuntil the end", 200, b"until the end"),
        (b"HTTP/1.0 200 OK\r\ncontent-length: 2\r\nconnection: close\r\n\r\nok", 200, b"ok"),
        (b"HTTP/1.1 404 Not Found\r\ncontent-length: 0\r\n\r\n", 404, b""),
        (b"SSH-2.0-x\r\n\r\n", 502, None),
        (b"HTTP/1.1 200 OK\r\ncontent-length: 2\r\ntransfer-encoding: chunked\r\n\r\nok", 502, None),
        (b"HTTP/1.1 101 Switching Protocols\r\nupgrade: x\r\nconnection: upgrade\r\n\r\n", 502, None),
        (b"HTTP/1.1 200 OK\r\nx-large: " + b"x" * 70_000 + b"\r\ncontent-length: 0\r\n\r\n", 502, None),
        (None, 502, None),
    ],
)
def test_an_answer_is_carried_or_refused_by_what_it_is(answer: bytes | None, status: int, body: bytes | None) -> None:
    with behind(answer) as (node, _):
        reply = node.get(PATH)
        assert reply.status == status
        if body is None:
            assert reply.problem["reason"] == "backend-broken"
        else:
            assert reply.body == body


def test_a_second_answer_to_one_request_never_reaches_another_caller() -> None:
    with behind(OK + b"HTTP/1.1 200 OK\r\ncontent-length: 6\r\n\r\npoison", OK) as (node, _):
        replies = [node.get(PATH) for _ in range(3)]
        assert all(reply.body in (b"ok",) for reply in replies if reply.status == 200)
        assert replies[-1].body == b"ok"


def test_a_backend_that_takes_no_connection_is_away_and_one_that_says_nothing_is_slow() -> None:
    with running(on(free_port()), PooledUpstream(EVERYWHERE)) as node:
        assert node.get(PATH).problem["reason"] == "backend-away"
    with behind(OK, pause_s=30, read_ms=150) as (node, _):
        reply = node.get(PATH)
        assert (reply.status, reply.problem["reason"]) == (504, "backend-slow")


def test_a_caller_that_goes_away_frees_the_backend() -> None:
    with behind(OK, pause_s=30, read_ms=60_000) as (node, _):
        with node.caller() as caller:
            caller.send(f"GET {PATH} HTTP/1.1\r\nHost: a\r\nX-Skerry-Key: {KEY}\r\n\r\n".encode())

        gone = until(lambda: [record for record in node.records if record.status == 499], "the record of the call")
        assert gone[0].total_us < 20_000_000


def resident() -> int:
    """This process's memory in bytes."""
    return int(Path("/proc/self/statm").read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE")


LARGE = 200_000_000
PIECE = b"x" * 1_000_000


class Streaming:
    """A backend that counts what it is sent and sends as much back."""

    def __init__(self) -> None:
        self.listener = socket.create_server(("127.0.0.1", 0))
        self.port = self.listener.getsockname()[1]
        self.taken = 0
        threading.Thread(target=self.work, daemon=True).start()

    def work(self) -> None:
        connection, _ = self.listener.accept()
        with self.listener, connection:
            buffer = bytearray(1_000_000)
            head = connection.recv(65536)
            self.taken = len(head.partition(b"\r\n\r\n")[2])
            while self.taken < LARGE:
                self.taken += connection.recv_into(buffer)
            connection.sendall(b"HTTP/1.1 200 OK\r\ncontent-length: %d\r\n\r\n" % LARGE)
            for _ in range(LARGE // len(PIECE)):
                connection.sendall(PIECE)


def test_large_bodies_stream_both_ways_without_filling_the_nodes_memory() -> None:
    """Two hundred megabytes up and down; the whole process, node, backend and caller, grows by less than twenty."""
    backend = Streaming()
    policies = [{"kind": "body-size", "at_most": "1 GB"}]
    made = on(backend.port).model_dump() | {"everywhere": policies}
    with running(Configuration.model_validate(made), PooledUpstream(EVERYWHERE)) as node, node.caller() as caller:
        head = f"POST {PATH} HTTP/1.1\r\nHost: a\r\nX-Skerry-Key: {KEY}\r\nContent-Length: {LARGE}\r\n\r\n"
        before = most = resident()
        caller.send(head.encode())
        for _ in range(LARGE // len(PIECE)):
            caller.send(PIECE)
            most = max(most, resident())
        buffer = bytearray(1_000_000)
        taken = 0
        while taken < LARGE:
            taken += caller.socket.recv_into(buffer)
            most = max(most, resident())
    assert backend.taken == LARGE
    assert most - before < 20_000_000


def test_a_node_that_stops_lets_the_calls_under_way_finish() -> None:
    replies = []
    with behind(OK, pause_s=0.6) as (node, backend):
        thread = threading.Thread(target=lambda: replies.append(node.get(PATH)))
        thread.start()
        until(lambda: backend.received, "the call's way to the backend")
    thread.join(10)
    assert [reply.status for reply in replies] == [200]
