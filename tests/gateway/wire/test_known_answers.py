"""The head of an answer is read once and known again on every connection to its target: callers never see that."""

import asyncio
from collections.abc import Iterator
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from gateway.harness import Backend, Caller, Node, running
from gateway.test_carry import raw
from gateway.test_pool import on
from tamarack.core.http.reach import EVERYWHERE
from tamarack.gateway.upstream.connection import MOST_KEPT
from tamarack.gateway.upstream.pool import PooledUpstream

FIELDS = st.sampled_from(
    [
        "x-a: 1", "x-a: 2", "set-cookie: a=1", "date: Fri, 27 Nov 2026 08:00:00 GMT", "location: http://HERE/inside",
        "content-location: /inside", "location: http://elsewhere.example/", "age: 3", "cache-status: own; hit",
        "connection: close", "connection: x-a", "access-control-allow-origin: *", "tamarack-call-id: forged", "x-long: LONG",
    ]
)  # fmt: skip
FRAMED = st.sampled_from(
    [
        ("content-length: 2", "hi"), ("content-length: 2", "ho"), ("content-length: 2", "hi!"),
        ("content-length: 0", ""), ("transfer-encoding: chunked", "2\r\nhi\r\n0\r\n\r\n"), ("transfer-encoding: gzip", "x"),
        ("x-b: 1", "to the end"), ("content-length: none", ""),
    ]
)  # fmt: skip
STATUSES = st.sampled_from(["200 OK", "200 OK", "200 OK", "404 Not Found", "204 No Content", "304 Not Modified"])
HEADS = st.tuples(STATUSES, st.lists(FIELDS, max_size=3))
OF_ONE_ANSWER = ("date", "tamarack-call-id")


@pytest.fixture(scope="module")
def backend() -> Iterator[Backend]:
    made = Backend([])
    yield made
    made.close()


@pytest.fixture(scope="module")
def node(backend: Backend) -> Iterator[Node]:
    with running(on(backend.port), PooledUpstream(EVERYWHERE)) as running_node:
        yield running_node
        forget(running_node)


def forget(node: Node) -> None:
    """Let the node know nothing of what its target answered."""
    before, node.gateway.upstream = node.gateway.upstream, PooledUpstream(EVERYWHERE)
    asyncio.run_coroutine_threadsafe(before.close(), node.loop).result(5)


def told(caller: Caller, host: str) -> tuple[Any, ...]:
    """What a caller is told of an answer."""
    caller.send(raw(f"GET /sailings/v2/ports HTTP/1.1\nHost: {host}\nConnection: close"))
    try:
        reply = caller.receive()
    except (OSError, ValueError):
        return ("cut off",)
    fields = [(name, name if name in OF_ONE_ANSWER else value) for name, value in reply.fields]
    if ("content-type", "application/problem+json") in fields:
        return reply.status, reply.problem["reason"]
    return reply.status, fields, reply.body


@settings(max_examples=60)
@given(st.lists(st.tuples(st.sampled_from((0, 0, 1)), FRAMED, st.sampled_from(("a", "b"))), min_size=3, max_size=5),
       HEADS, HEADS)  # fmt: skip
def test_answers_are_passed_on_as_each_on_its_own(
    node: Node,
    backend: Backend,
    answers: list[tuple[int, tuple[str, str], str]],
    one: tuple[str, list[str]],
    other: tuple[str, list[str]],
) -> None:
    sent = []
    for which, (framing, body), host in answers:
        status, fields = (one, other)[which]
        head = "\r\n".join([f"HTTP/1.1 {status}", *fields, framing]).replace("HERE", f"127.0.0.1:{backend.port}")
        sent.append((f"{head.replace('LONG', 'y' * MOST_KEPT)}\r\n\r\n{body}".encode(), host))
    found = []
    for alone in (True, False):
        forget(node)
        for answer, host in sent:
            if alone:
                forget(node)
            backend.answers[:] = [answer]
            with node.caller() as caller:
                found.append(told(caller, host))
    assert found[len(sent) :] == found[: len(sent)]
