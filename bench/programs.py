"""The programs that the gateway bench runs: a backend, the floor, and the gateway in its variants.

`python bench/programs.py VARIANT PORT BACKEND_PORT FOLDER`
"""

import asyncio
import contextlib
import gc
import os
import sys
from pathlib import Path
from typing import Any

import httptools
import uvloop

import answers
import meters
import shapes
import ways
from tamarack.core.configuration.model import Configuration
from tamarack.core.configuration.snapshot import Snapshot, compile_snapshot
from tamarack.core.http.reach import EVERYWHERE
from tamarack.core.identity.callers import CallerDirectory
from tamarack.core.limits.memory import MemoryCounters
from tamarack.core.told.problems import Problems
from tamarack.gateway.counters.redis_counters import RedisCounters
from tamarack.gateway.counters.shared import SharedCounting
from tamarack.gateway.driver import NodeDriver
from tamarack.gateway.gateway import Gateway, Serving
from tamarack.gateway.metering import Metering
from tamarack.gateway.node import settle_memory
from tamarack.gateway.recording.recorder import Recorder
from tamarack.gateway.upstream.pool import PooledUpstream
from tamarack.gateway.wire.limits import WireLimits
from tamarack.gateway.wire.server import CallerServer
from ways import PEPPER

BODY = b"x" * 1024
ANSWER = b"HTTP/1.1 200 OK\r\ncontent-type: text/plain\r\ncontent-length: 1024\r\n\r\n" + BODY


class Backend(asyncio.Protocol):
    """Answers every request that has no body with the same kilobyte, without reading it closely."""

    def connection_made(self, transport: Any) -> None:
        self.transport = transport
        self.held = b""

    def data_received(self, data: bytes) -> None:
        data = self.held + data
        many = data.count(b"\r\n\r\n")
        self.held = data[data.rfind(b"\r\n\r\n") + 4 :] if many else data
        if many:
            self.transport.write(ANSWER * many)


async def backend(port: int, kind: str = "backend") -> None:
    """Serve until ended."""
    make = Backend if kind == "backend" else lambda: HostileBackend(kind)
    server = await asyncio.get_running_loop().create_server(make, "127.0.0.1", port)
    await server.serve_forever()


class HostileBackend(Backend):
    """Answers like the other, but to paths with `hostile` in them without end, as its kind says."""

    STARTS = {
        "endless-field": (b"HTTP/1.1 200 OK\r\nx: ", b"y" * 8000),
        "endless-interim": (b"", b"HTTP/1.1 103 Early Hints\r\nlink: x\r\n\r\n" * 200),
        "endless-trailers": (b"HTTP/1.1 200 OK\r\ntransfer-encoding: chunked\r\n\r\n0\r\n", b"x: y\r\n" * 1000),
    }
    """What each kind sends first, and then again and again."""

    def __init__(self, kind: str) -> None:
        self.kind = kind
        self.full = False

    def data_received(self, data: bytes) -> None:
        if b"hostile" not in data:
            super().data_received(data)
            return
        start, self.piece = self.STARTS[self.kind]
        self.transport.write(start)
        self.pour()

    def pour(self) -> None:
        """Send on, while somebody takes it."""
        if not self.full and not self.transport.is_closing():
            self.transport.write(self.piece)
            asyncio.get_running_loop().call_soon(self.pour)

    def pause_writing(self) -> None:
        self.full = True

    def resume_writing(self) -> None:
        self.full = False
        self.pour()


class FloorTarget(asyncio.Protocol):
    """The floor's connection to the backend: answers are read by the same parser, and nothing else is done."""

    def __init__(self, caller: "FloorCaller") -> None:
        self.caller = caller
        self.parser = httptools.HttpResponseParser(self)
        self.length = 0

    def connection_made(self, transport: Any) -> None:
        self.transport = transport
        self.caller.ready(self)

    def on_header(self, name: bytes, value: bytes) -> None:
        if name.lower() == b"content-length":
            self.length = int(value)

    def data_received(self, data: bytes) -> None:
        self.parser.feed_data(data)
        self.caller.transport.write(data)


class FloorCaller(asyncio.Protocol):
    """Two protocols on httptools with nothing between: the least that any gateway on this stack costs."""

    def __init__(self, backend_port: int) -> None:
        self.backend_port = backend_port
        self.parser = httptools.HttpRequestParser(self)
        self.target: FloorTarget | None = None
        self.waiting: list[bytes] = []

    def connection_made(self, transport: Any) -> None:
        self.transport = transport
        loop = asyncio.get_running_loop()
        made = loop.create_connection(lambda: FloorTarget(self), "127.0.0.1", self.backend_port)
        self.connecting = loop.create_task(made)

    def ready(self, target: FloorTarget) -> None:
        self.target = target
        for data in self.waiting:
            target.transport.write(data)

    def on_header(self, name: bytes, value: bytes) -> None:
        """Read, and nothing done with it."""

    def data_received(self, data: bytes) -> None:
        self.parser.feed_data(data)
        if self.target is None:
            self.waiting.append(data)
        else:
            self.target.transport.write(data)

    def connection_lost(self, exc: Exception | None) -> None:
        if self.target is not None:
            self.target.transport.close()


async def floor(port: int, backend_port: int) -> None:
    """Serve the floor until ended."""
    settle_memory()
    server = await asyncio.get_running_loop().create_server(lambda: FloorCaller(backend_port), "127.0.0.1", port)
    await server.serve_forever()


class NoRecorder:
    """Takes records and drops them: for the variants without recording."""

    def add(self, record: tuple[Any, ...]) -> None:
        """Drop it."""


def configuration(variant: str, backend_port: int) -> Configuration:
    """The configuration of a variant."""
    policies: list[dict[str, Any]] = [{"kind": "open"}] if variant == "no-policy" else [ways.API_KEY]
    policies = list(ways.POLICIES.get(variant, policies))
    if variant == "key-limit-record":
        policies.append({"kind": "rate-limit", "windows": ["900000 per second"]})
    policies = list((answers.VARIANTS | shapes.VARIANTS).get(variant, policies))
    if variant in meters.VARIANTS:
        policies += meters.policies(variant)
    version = {
        "version": "2",
        "base_path": "/sailings/v2",
        "backend": "timetable",
        "document": "d" * 64,
        "policies": policies,
        "operations": [{"call": "get /sailings"}, {"call": "post /sailings"}, {"call": "get /sailings/{id}"}],
    }
    return Configuration.model_validate(
        {
            "kinds": shapes.KINDS,
            "backends": [answers.backend(variant, backend_port)],
            "apis": [{"name": "sailings", "title": "Sailings", "versions": [version]}],
            "products": [
                {"name": "passage", "title": "Passage", "apis": ["sailings"], "plans": [{"name": "a", "title": "A"}]}
            ],
        }
    )


def with_answers(snapshot: Snapshot) -> Snapshot:
    """The snapshot, as if a description documented an answer of each operation."""
    versions = []
    for version in snapshot.versions:
        operations = tuple(one.model_copy(update={"answers": answers.ANSWERS}) for one in version.operations)
        versions.append(version.model_copy(update={"operations": operations}))
    return snapshot.model_copy(update={"versions": tuple(versions)})


def node(variant: str, backend_port: int, folder: Path) -> tuple[Gateway, Recorder | None]:
    """A node of a variant, and its recorder, where it has one."""
    directory = CallerDirectory(PEPPER, "production")
    material = ways.fill(directory, folder)
    snapshot = compile_snapshot(configuration(variant, backend_port), "production", lambda sha256: shapes.DOCUMENT)
    recorder: Any = NoRecorder()
    if variant == "key-limit-record":
        recorder = Recorder(folder / "spool", 2_000_000_000, 0.5)
    counters, shared = MemoryCounters(), None
    if meters.in_redis(variant):
        store = RedisCounters(os.environ["BENCH_REDIS"], variant, 0.5)
        shared = SharedCounting(store, counters, lambda text: print(text, file=sys.stderr))
    made = Gateway(
        "bench",
        "production",
        PooledUpstream(EVERYWHERE),
        recorder,
        Problems("http://127.0.0.1"),
        material=material,
        metering=Metering(counters, shared),
    )
    if variant == "mock":
        snapshot = with_answers(snapshot)
    made.serving = Serving(1, snapshot, directory, counters, material, None, made.caches, made.states)
    directory.set_products(snapshot.products)
    return made, recorder if isinstance(recorder, Recorder) else None


async def gateway(variant: str, port: int, backend_port: int, folder: Path) -> None:
    """Serve a variant of the gateway until ended."""
    made, recorder = node(variant, backend_port, folder)
    recording = asyncio.create_task(recorder.run()) if recorder is not None else None
    settle_memory()
    await CallerServer(WireLimits(), lambda connection: NodeDriver(made, connection)).listen("127.0.0.1", port)
    leftovers = folder / f"{variant}.leftovers"
    while recording is None or not recording.done():  # what the collector finds is written down, for the bench to print
        await asyncio.sleep(0.5)
        if (folder / f"{variant}.collect").exists():
            (folder / f"{variant}.collect").unlink()
            leftovers.write_text(str(gc.collect()))


def main() -> None:
    """Run one program."""
    variant, port, backend_port = sys.argv[1], int(sys.argv[2]), int(sys.argv[3])
    with contextlib.suppress(KeyboardInterrupt):
        if variant == "backend" or variant in HostileBackend.STARTS:
            uvloop.run(backend(port, variant))
        elif variant == "floor":
            uvloop.run(floor(port, backend_port))
        else:
            uvloop.run(gateway(variant, port, backend_port, Path(sys.argv[4])))


if __name__ == "__main__":
    main()
