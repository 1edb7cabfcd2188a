"""A connection reads the fields of a request once, and knows them again: that is never seen in what it does."""

import re
from collections.abc import Iterator
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from gateway.harness import KEY, Caller, Node, running
from gateway.test_carry import answering
from helpers import configuration
from tamarack.gateway.upstream.scripted import ScriptedUpstream
from tamarack.gateway.wire.connection import MOST_KEPT

OPEN, CLOSED = b"/sailings/v2/ports", b"/sailings/v2/sailings"
GOOD = st.sampled_from([b"GET %b HTTP/1.1" % OPEN, b"GET %b?a=1&b HTTP/1.1" % CLOSED, b"HEAD %b HTTP/1.1" % OPEN])
ODD = st.sampled_from(
    [
        b"GET %b HTTP/1.0" % OPEN, b"POST %b HTTP/1.1" % CLOSED, b"OPTIONS * HTTP/1.1", b"CONNECT a:80 HTTP/1.1",
        b"FOO %b HTTP/1.1" % OPEN, b"GET %b HTTP/2.0" % OPEN, b"GET http://b.example%b HTTP/1.1" % OPEN, b"GET %b" % OPEN,
        b"GET /a#b HTTP/1.1", b"TRACE %b HTTP/1.1" % OPEN, b"GET %b HTTP/1.1 " % OPEN, b"GET  HTTP/1.1",
    ]
)  # fmt: skip
LINES = st.one_of(GOOD, GOOD, ODD)
USUAL = st.sampled_from(
    [
        b"x-skerry-key: %b" % KEY.encode(), b"X-Skerry-Key: wrong", b"connection: keep-alive", b"x-a: 1", b"x-a:\t1 ",
        b"user-agent: one", b"cookie: tamarack_console=x; own=1", b"content-type: text/plain", b"x-long: LONG",
    ]
)  # fmt: skip
RARE = st.sampled_from(
    [
        b"connection: close", b"connection: x-a", b"connection: upgrade", b"upgrade: websocket", b"expect: 100-continue",
        b"content-length: 0", b"content-length: 2", b"transfer-encoding: chunked", b"transfer-encoding: gzip",
        b"host: b", b"host: a b", b"max-forwards: 3", b"proxy: a",
    ]
)  # fmt: skip
FIELDS = st.one_of(USUAL, USUAL, USUAL, RARE)
OF_ONE_ANSWER = ("date", "tamarack-call-id", "content-length", "ratelimit")
BLOCKS = st.lists(FIELDS, min_size=1, max_size=4).map(lambda fields: b"\r\n".join([b"host: a", *fields]) + b"\r\n\r\n")


@pytest.fixture(scope="module")
def upstream() -> ScriptedUpstream:
    return ScriptedUpstream(answering)


@pytest.fixture(scope="module")
def node(upstream: ScriptedUpstream) -> Iterator[Node]:
    with running(configuration(), upstream) as running_node:
        yield running_node


def body_of(block: bytes) -> bytes:
    if b"transfer-encoding" in block:
        return b"0\r\n\r\n"
    return b"hi" if b"content-length: 2" in block else b""


def told(caller: Caller, upstream: ScriptedUpstream, line: bytes, block: bytes) -> tuple[Any, ...]:
    """What a caller is told of a request, and what the backend hears of it."""
    before = len(upstream.asked)
    block = block.replace(b"LONG", b"y" * MOST_KEPT)
    reply = caller.ask(line + b"\r\n" + block + body_of(block), head_only=line.startswith(b"HEAD"))
    fields = [field for field in reply.fields if field[0] not in OF_ONE_ANSWER]
    heard = [(re.sub(rb"tamarack-call-id: \w+", b"", one.head), one.body) for one in upstream.asked[before:]]
    return reply.status, reply.problem.get("reason") if reply.status >= 400 and reply.body else "", fields, heard


@settings(max_examples=250)
@given(st.lists(st.tuples(LINES, st.sampled_from((0, 0, 1, 1, 2))), min_size=3, max_size=6), BLOCKS, BLOCKS)
def test_requests_on_one_connection_are_read_as_each_on_its_own(
    node: Node, upstream: ScriptedUpstream, requests: list[tuple[bytes, int]], one: bytes, other: bytes
) -> None:
    blocks = one, one.replace(b": 1", b": 2").replace(b"one", b"two").replace(b"good", b"gone"), other
    apart = []
    for line, which in requests:
        with node.caller() as caller:
            apart.append(told(caller, upstream, line, blocks[which]))
    with node.caller() as caller:
        for (line, which), alone in zip(requests, apart, strict=True):
            assert told(caller, upstream, line, blocks[which]) == alone
            if ("connection", "close") in alone[2]:
                break
