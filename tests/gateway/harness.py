"""A gateway node on a real socket, in a thread of its own; and a caller that sends bytes as they are given."""

import asyncio
import json
import socket
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from typing import Any

import uvloop

from helpers import until
from tamarack.core.caching.memory import MemoryCache
from tamarack.core.configuration.model import Configuration
from tamarack.core.configuration.snapshot import compile_snapshot
from tamarack.core.identity.callers import CallerDirectory
from tamarack.core.identity.credentials import digest
from tamarack.core.identity.material import Material, nothing_sealed
from tamarack.core.limits.memory import MemoryCounters
from tamarack.core.nodes.keys import asking_key
from tamarack.core.told.addresses import Addresses
from tamarack.core.told.problems import Problems
from tamarack.core.traffic.record import Record
from tamarack.gateway.caches.node_caches import NodeCaches
from tamarack.gateway.caches.redis_cache import RedisCache
from tamarack.gateway.counters.redis_counters import RedisCounters
from tamarack.gateway.counters.shared import SharedCounting
from tamarack.gateway.driver import NodeDriver
from tamarack.gateway.gateway import Gateway, Serving
from tamarack.gateway.key_sets import KeySetWaiter, nobody
from tamarack.gateway.metering import Metering
from tamarack.gateway.recording.quota_use import QuotaUse
from tamarack.gateway.recording.tracer import Tracer
from tamarack.gateway.redirecting import RedirectDriver
from tamarack.gateway.upstream.interface import Upstream
from tamarack.gateway.wire.connection import CallerConnection
from tamarack.gateway.wire.limits import WireLimits
from tamarack.gateway.wire.server import CallerServer
from tamarack.settings import Settings

PEPPER = bytes(range(32))
BENCH_KEY = asking_key(bytes(32), "n1")
KEY = "tmk_good"


class KeptRecords:
    """A recorder that keeps the records for the test to read."""

    def __init__(self) -> None:
        self.records: list[Record] = []

    def add(self, record: tuple[Any, ...]) -> None:
        self.records.append(Record(*record))


@dataclass
class Reply:
    """An answer as the caller sees it."""

    status: int
    fields: list[tuple[str, str]]
    body: bytes
    informational: list[int] = field(default_factory=list)

    def __getitem__(self, name: str) -> str:
        return next(value for key, value in self.fields if key == name)

    def __contains__(self, name: str) -> bool:
        return any(key == name for key, _ in self.fields)

    @property
    def problem(self) -> dict[str, Any]:
        assert self["content-type"] == "application/problem+json"
        found: dict[str, Any] = json.loads(self.body)
        return found


class Caller:
    """One connection to the node."""

    def __init__(self, port: int) -> None:
        self.socket = socket.create_connection(("127.0.0.1", port), 10)
        self.stream = self.socket.makefile("rb")

    def send(self, raw: bytes) -> None:
        self.socket.sendall(raw)

    def receive(self, head_only: bool = False) -> Reply:
        """Read one answer; what is informational before it is noted."""
        informational = []
        while True:
            line = self.stream.readline()
            assert line, "the connection was closed before an answer"
            status = int(line.split()[1])
            fields = []
            while (line := self.stream.readline().rstrip(b"\r\n")) != b"":
                name, _, value = line.decode("latin-1").partition(":")
                fields.append((name.lower(), value.strip()))
            if status >= 200:
                break
            informational.append(status)
        named = dict(fields)
        body = b""
        if head_only or status in (204, 304):
            pass
        elif named.get("transfer-encoding") == "chunked":
            while size := int(self.stream.readline(), 16):
                body += self.stream.read(size)
                self.stream.readline()
            self.stream.readline()
        elif "content-length" in named:
            body = self.stream.read(int(named["content-length"]))
        else:
            body = self.stream.read()
        return Reply(status, fields, body, informational)

    def ask(self, raw: bytes, head_only: bool = False) -> Reply:
        self.send(raw)
        return self.receive(head_only)

    def closed(self) -> bool:
        """Whether the node closes the connection."""
        return self.stream.read(1) == b""

    def close(self) -> None:
        self.stream.close()
        self.socket.close()


@dataclass
class Node:
    """A running node."""

    port: int
    gateway: Gateway
    directory: CallerDirectory
    material: Material
    counters: MemoryCounters
    records: list[Record]
    loop: asyncio.AbstractEventLoop
    traces: list[dict[str, Any]] = field(default_factory=list)
    used: QuotaUse = field(default_factory=lambda: QuotaUse("production"))
    said: list[str] = field(default_factory=list)
    """What the node logged."""

    def _repr_pretty_(self, printer: Any, cycle: bool) -> None:
        """Its port alone, where a property that fails shows its node: what it holds would be long."""
        printer.text(f"Node(port={self.port})")

    def serve(self, configuration: Configuration, number: int = 1) -> None:
        """Take up a configuration, as a rollout would."""
        snapshot = compile_snapshot(configuration, "production")

        async def swap() -> None:
            self.directory.set_products(snapshot.products)
            serving = Serving(
                number,
                snapshot,
                self.directory,
                self.counters,
                self.material,
                self.used,
                self.gateway.caches,
                self.gateway.states,
                Addresses(self.gateway.problems.portal_url),
            )
            self.gateway.take_up(serving)

        asyncio.run_coroutine_threadsafe(swap(), self.loop).result(5)

    @contextmanager
    def caller(self) -> Iterator[Caller]:
        made = Caller(self.port)
        try:
            yield made
        finally:
            made.close()

    def ask(self, raw: bytes, head_only: bool = False) -> Reply:
        with self.caller() as caller:
            return caller.ask(raw, head_only)

    def get(self, path: str, *fields: str, key: str = KEY, method: str = "GET") -> Reply:
        lines = [f"{method} {path} HTTP/1.1", "Host: gateway.example", *fields]
        if key:
            lines.append(f"X-Skerry-Key: {key}")
        return self.ask(("\r\n".join(lines) + "\r\n\r\n").encode("latin-1"), method == "HEAD")

    def last_record(self, call_id: str) -> Record:
        """The record of a call, which is written just after it was answered."""
        return until(lambda: next((r for r in self.records if r.id == call_id), None), f"the record of {call_id}")


@contextmanager
def running(configuration: Configuration | None, upstream: Upstream, **changes: Any) -> Iterator[Node]:
    """A node that serves a configuration (none: it has not taken one up) over an upstream client."""
    recorder = KeptRecords()
    trusted = changes.pop("trusted", None)
    limits = changes.pop("limits", {})
    material = changes.pop("material", None) or Material("production", nothing_sealed)
    directory = CallerDirectory(PEPPER, "production")
    traces: list[dict[str, Any]] = []
    tracer = Tracer(material, directory, "production", "n1", BENCH_KEY, traces.append)
    waiter = KeySetWaiter(material, changes.pop("ask", nobody))
    problems = Problems("http://portal.example")
    counters, address = MemoryCounters(), changes.pop("redis", "")
    said: list[str] = changes.pop("said", [])
    store = RedisCounters(address, "production", changes.pop("store_within_s", 2.0)) if address else None
    shared = SharedCounting(store, counters, said.append) if store is not None else None
    far_address = changes.pop("shared_cache", "")
    far = RedisCache(far_address, "production", 2.0, 1_000_000, said.append) if far_address else None
    caches = NodeCaches(MemoryCache(10_000_000), far)
    metering = Metering(counters, shared)
    gateway = Gateway(
        "n1",
        "production",
        upstream,
        recorder,  # type: ignore[arg-type]
        problems,
        trusted,
        material,
        tracer,
        waiter,
        metering,
        said.append,
        caches,
    )
    directory.apply("application", "a", {"name": "kiosk", "organization": "ticket-office", "paused": False})
    directory.apply("credential", "c", {"application": "a", "digest": digest(KEY.encode(), PEPPER)})
    directory.apply("application", "b", {"name": "stranger", "organization": "tern-trips", "paused": False})
    directory.apply("credential", "d", {"application": "b", "digest": digest(b"tmk_unsubscribed", PEPPER)})
    body = {"application": "a", "product": "passage", "plan": "skiff", "state": "active"}
    directory.apply("subscription", "s", body)
    tls, hsts_s, redirects_to = (changes.pop(name, None) for name in ("tls", "hsts_s", "redirects_to"))

    def carries(connection: CallerConnection) -> NodeDriver:
        if redirects_to:
            return RedirectDriver(gateway, connection, redirects_to)
        return NodeDriver(gateway, connection)

    server = CallerServer(replace(WireLimits.of(Settings(**changes)), **limits), carries, tls, hsts_s or 0)
    loop = uvloop.new_event_loop()  # as a real node runs
    ports: list[int] = []
    stopping = asyncio.Event()

    async def serve() -> None:
        ports.append(await server.listen("127.0.0.1", 0))
        watching = asyncio.create_task(shared.run()) if shared is not None else None
        await stopping.wait()
        await server.drain(5)
        await upstream.close()
        if far is not None:
            await far.close()
        if watching is not None and store is not None:
            watching.cancel()
            await asyncio.gather(watching, return_exceptions=True)
            await store.close()

    def work() -> None:
        asyncio.set_event_loop(loop)
        loop.run_until_complete(serve())
        loop.close()

    thread = threading.Thread(target=work)
    thread.start()
    port = until(lambda: ports, "the start of the server")[0]
    node = Node(port, gateway, directory, material, counters, recorder.records, loop, traces, said=said)
    try:
        if configuration is not None:
            node.serve(configuration)
        yield node
    finally:
        loop.call_soon_threadsafe(stopping.set)
        thread.join(20)
        assert not thread.is_alive()


class Backend:
    """A backend that answers each connection from a list of raw answers, and remembers what it was sent.

    `None` in the list closes the connection instead of answering.
    """

    def __init__(self, answers: list[bytes | None], pause_s: float = 0) -> None:
        self.answers = answers
        self.pause_s = pause_s
        self.received: list[bytes] = []
        self.connections = 0
        self._listener = socket.create_server(("127.0.0.1", 0))
        self.port = self._listener.getsockname()[1]
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._accept, daemon=True)
        self._thread.start()

    def _accept(self) -> None:
        while not self._stop.is_set():
            try:
                connection, _ = self._listener.accept()
            except OSError:
                return
            self.connections += 1
            threading.Thread(target=self._talk, args=(connection,), daemon=True).start()

    def _talk(self, connection: socket.socket) -> None:
        stream = connection.makefile("rb")
        with connection, stream:
            while True:
                try:
                    request = self._read(stream)
                except OSError:
                    return
                if not request:
                    return
                self.received.append(request)
                answer = self.answers.pop(0) if self.answers else b"HTTP/1.1 200 OK\r\ncontent-length: 2\r\n\r\nok"
                if answer is None or self._stop.wait(self.pause_s):
                    return
                try:
                    connection.sendall(answer)
                except OSError:
                    return
                if b"connection: close" in answer or (b"content-length" not in answer and b"chunked" not in answer):
                    return

    @staticmethod
    def _read(stream: Any) -> bytes:
        head = b""
        while not head.endswith(b"\r\n\r\n"):
            line = stream.readline()
            if not line:
                return b""
            head += line
        lowered = head.lower()
        if b"content-length:" in lowered:
            return head + stream.read(int(lowered.split(b"content-length:")[1].split(b"\r\n")[0]))
        if b"transfer-encoding: chunked" in lowered:
            body = b""
            while size := int(stream.readline(), 16):
                body += stream.read(size)
                stream.readline()
            stream.readline()
            return head + body
        return head

    def close(self) -> None:
        self._stop.set()
        self._listener.close()
