"""The programs that the gateway bench runs: a backend, a bare pass-through, and the gateway in its variants.

`python bench/programs.py VARIANT PORT BACKEND_PORT FOLDER`
"""

import asyncio
import contextlib
import os
import sys
from pathlib import Path
from typing import Any

import uvicorn
import uvloop

import meters
import ways
from tamarack.core.configuration.model import Configuration
from tamarack.core.configuration.snapshot import compile_snapshot
from tamarack.core.identity.callers import CallerDirectory
from tamarack.core.limits.memory import MemoryCounters
from tamarack.gateway.carry import Gateway, Serving
from tamarack.gateway.counters.redis_counters import RedisCounters
from tamarack.gateway.counters.shared import SharedCounting
from tamarack.gateway.metering import Metering
from tamarack.gateway.node import server_config, settle_memory
from tamarack.gateway.problem import STATUS_LINES, Problems
from tamarack.gateway.recorder import Recorder
from tamarack.gateway.upstream.interface import target_address
from tamarack.gateway.upstream.pool import PooledUpstream
from tamarack.settings import Settings
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


async def backend(port: int) -> None:
    """Serve until ended."""
    server = await asyncio.get_running_loop().create_server(Backend, "127.0.0.1", port)
    await server.serve_forever()


class PassThrough:
    """The same server and upstream client with nothing between: what the gateway is measured against."""

    def __init__(self, backend_port: int) -> None:
        self.upstream = PooledUpstream()
        self.target = target_address(f"http://127.0.0.1:{backend_port}", 2000, 30000)

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        parts = [scope["method"].encode(), b" ", scope["raw_path"], b" HTTP/1.1\r\n"]
        for name, value in scope["headers"]:
            parts += (name, b": ", value, b"\r\n")
        parts.append(b"\r\n")
        answer = await self.upstream.send(self.target, scope["method"], b"".join(parts), repeatable=True)
        fields = b"".join(b"%b: %b\r\n" % field for field in answer.headers)
        scope["tamarack.cycle"].respond(STATUS_LINES[answer.status] + fields, answer.whole() or b"")
        answer.close()


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
    if variant in meters.VARIANTS:
        policies += meters.policies(variant)
    version = {
        "version": "2",
        "base_path": "/sailings/v2",
        "backend": "timetable",
        "policies": policies,
        "operations": [{"call": "get /sailings"}, {"call": "get /sailings/{id}"}],
    }
    return Configuration.model_validate(
        {
            "backends": [{"name": "timetable", "targets": [{"address": f"http://127.0.0.1:{backend_port}"}]}],
            "apis": [{"name": "sailings", "title": "Sailings", "versions": [version]}],
            "products": [
                {"name": "passage", "title": "Passage", "apis": ["sailings"], "plans": [{"name": "a", "title": "A"}]}
            ],
        }
    )


async def gateway(variant: str, port: int, backend_port: int, folder: Path) -> None:
    """Serve a variant of the gateway until ended."""
    directory = CallerDirectory(PEPPER, "production")
    material = ways.fill(directory, folder)
    snapshot = compile_snapshot(configuration(variant, backend_port), "production")
    recorder: Any = NoRecorder()
    if variant == "key-limit-record":
        recorder = Recorder(folder / "spool", 2_000_000_000, 0.5)
        asyncio.get_running_loop().create_task(recorder.run())
    counters, shared = MemoryCounters(), None
    if meters.in_redis(variant):
        store = RedisCounters(os.environ["BENCH_REDIS"], variant, 0.5)
        shared = SharedCounting(store, counters, lambda text: print(text, file=sys.stderr))
    app = Gateway(
        "bench",
        "production",
        PooledUpstream(),
        recorder,
        Problems("http://127.0.0.1"),
        material=material,
        metering=Metering(counters, shared),
    )
    app.serving = Serving(1, snapshot, directory, counters, material, shared is not None)
    directory.set_products(snapshot.products)
    settle_memory()
    await uvicorn.Server(server_config(app, Settings(), "127.0.0.1", port)).serve()


async def pass_through(port: int, backend_port: int) -> None:
    """Serve the bare pass-through until ended."""
    app: Any = PassThrough(backend_port)
    app.refuse_head = lambda reason, address: (400, b"", b"")
    settle_memory()
    await uvicorn.Server(server_config(app, Settings(), "127.0.0.1", port)).serve()


def main() -> None:
    """Run one program."""
    variant, port, backend_port = sys.argv[1], int(sys.argv[2]), int(sys.argv[3])
    with contextlib.suppress(KeyboardInterrupt):
        if variant == "backend":
            uvloop.run(backend(port))
        elif variant == "pass-through":
            uvloop.run(pass_through(port, backend_port))
        else:
            uvloop.run(gateway(variant, port, backend_port, Path(sys.argv[4])))


if __name__ == "__main__":
    main()
