"""One call carried inside one process, without sockets: what a node's own code takes of the processor for it.

Heads go into callers' connections and answers into targets', through the real parsers, connections, driver and
programs; what the system takes to receive and send is not in it. The least of many short rounds is printed, which other
programs on the machine disturb little. Each variant runs in a process of its own, compiled where it is, and as Python.
"""

import argparse
import asyncio
import itertools
import os
import socket
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

import programs
import ways
from tamarack.compiled import is_compiled
from tamarack.gateway.driver import NodeDriver
from tamarack.gateway.node import settle_memory
from tamarack.gateway.upstream.connection import TargetConnection
from tamarack.gateway.wire.connection import CallerConnection
from tamarack.gateway.wire.limits import WireLimits
from tamarack.gateway.wire.server import CallerServer

VARIANTS = ("no-policy", "key", "key-limit-record", "varied:key-limit-record")
VARIED = "varied:"
"""Before a variant: no two calls have the same fields, and no two answers the same head: none are known again."""
CONNECTIONS = 32
HEAD = "GET /sailings/v2/sailings HTTP/1.1\r\nHost: bench\r\nuser-agent: bench/1\r\naccept: application/json\r\n"


class Wire:
    """What a transport is for a connection, with nobody at the other end; the socket is a real, silent one."""

    def __init__(self) -> None:
        self.near, self.far = socket.socketpair()
        self.sent = b""

    def write(self, data: bytes) -> None:
        self.sent = data

    def get_extra_info(self, name: str) -> Any:
        return {"peername": ("127.0.0.1", 40_000), "socket": self.near}.get(name)

    def is_closing(self) -> bool:
        return False

    def abort(self) -> None:
        """Closed, as what was idle for long is."""


async def least(variant: str, rounds: int, calls: int, folder: Path) -> float:
    """Microseconds of processor time for one call of a variant."""
    ways.write_keys(folder)
    varied = variant.startswith(VARIED)
    variant = variant.removeprefix(VARIED)
    node, recorder = programs.node(variant, 9, folder)
    loop = asyncio.get_running_loop()
    server = CallerServer(WireLimits(), lambda connection: NodeDriver(node, connection))
    assert node.serving is not None
    pool = node.upstream._open(next(iter(node.serving.routes.values())).targets[0])  # type: ignore[attr-defined]
    callers, wires = [], []
    for _ in range(CONNECTIONS):
        caller, target, wire = CallerConnection(server, loop), TargetConnection(pool, loop), Wire()
        caller.connection_made(wire)  # type: ignore[arg-type]
        target.connection_made(Wire())  # type: ignore[arg-type]
        callers.append((caller.data_received, target.data_received))
        wires.append(wire)
        pool.idle.append(target)
    head = "".join([HEAD, *(f"{line}\r\n" for line in ways.headers(variant, folder)), "\r\n"]).encode()

    heads, answers = [head], [programs.ANSWER]
    if varied:
        heads = [head[:-2] + b"x-request: %d\r\n\r\n" % number for number in range(1009)]
        answers = [programs.ANSWER.replace(b"\r\n", b"\r\nx-answer: %d\r\n" % number, 1) for number in range(1009)]
    coming, going = itertools.cycle(heads), itertools.cycle(answers)

    def go(times: int) -> None:
        for _ in range(times):
            for hear, _ in callers:
                hear(next(coming))
            for _, answer in reversed(callers):  # the connection given back last is taken first
                answer(next(going))

    go(3)
    assert all(wire.sent.startswith(b"HTTP/1.1 200") for wire in wires), wires[0].sent
    settle_memory()
    found = []
    for _ in range(rounds):
        before = time.process_time()
        go(max(1, calls // CONNECTIONS))
        found.append((time.process_time() - before) / (max(1, calls // CONNECTIONS) * CONNECTIONS))
        if recorder is not None:
            recorder.flush()
    return min(found) * 1e6


def main() -> None:
    """Run the bench and print its table."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rounds", type=int, default=100)
    parser.add_argument("--calls", type=int, default=640, help="calls in a round")
    parser.add_argument("--variant", choices=VARIANTS, help="run one, in this process")
    given = parser.parse_args()
    if given.variant:
        with tempfile.TemporaryDirectory(prefix="tamarack-bench-") as folder:
            print(asyncio.run(least(given.variant, min(given.rounds, 10_000), min(given.calls, 10_000), Path(folder))))
        return
    kinds = {"as Python": "no"} | ({"compiled": ""} if is_compiled() else {})
    if not is_compiled():
        print("the call path runs as Python: bin/compile compiles it")
    print(f"{'µs of the processor for a call, without sockets':<50}" + "".join(f"{kind:>12}" for kind in kinds))
    for variant in VARIANTS:
        row = []
        for value in kinds.values():
            command = [sys.executable, __file__, "--variant", variant, "--rounds", str(given.rounds)]
            environment = os.environ | {"TAMARACK_COMPILED": value}
            row.append(float(subprocess.check_output([*command, "--calls", str(given.calls)], env=environment)))
        print(f"{variant:<50}" + "".join(f"{one:>12.1f}" for one in row))


if __name__ == "__main__":
    main()
