"""Which server reads requests strictly, and what a bare pass-through on each costs.

Each server runs the same small application. First the doubtful requests: what each answers to them. Then calls a
second of the pass-through, round by round in turn; the ratio is to uvicorn.
"""

import argparse
import signal
import socket
import statistics
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

HERE = Path(__file__).parent
sys.path.insert(0, str(HERE))

SERVERS = ("uvicorn", "granian", "strict")
TITLES = {"uvicorn": "uvicorn + httptools", "granian": "granian", "strict": "uvicorn + gateway.protocol"}
END = b"\r\n\r\n"
DOUBTFUL = {
    "length together with chunks": b"POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 3\r\nTransfer-Encoding: chunked"
    + END
    + b"0"
    + END,
    "two lengths": b"POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 3\r\nContent-Length: 4" + END + b"abcd",
    "bare line feeds": b"GET / HTTP/1.1\nHost: a\n\n",
    "no Host": b"GET / HTTP/1.1" + END,
    "two Hosts": b"GET / HTTP/1.1\r\nHost: a\r\nHost: b" + END,
    "target of another host": b"GET http://b/ HTTP/1.1\r\nHost: a" + END,
    "unknown transfer coding": b"POST / HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: x" + END,
    "head of 100 kB": b"GET / HTTP/1.1\r\nHost: a\r\nX: " + b"x" * 100_000 + END,
}


class PassThrough:
    """Sends a call on to the backend, by plain ASGI."""

    def __init__(self) -> None:
        from tamarack.gateway.upstream.pool import PooledUpstream

        self.upstream = PooledUpstream()

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        from tamarack.gateway.upstream.interface import target_address

        if scope["type"] != "http":
            return
        target = target_address(f"http://127.0.0.1:{BACKEND_PORT}", 2000, 30000)
        head = b"GET / HTTP/1.1\r\nhost: a\r\n\r\n"
        answer = await self.upstream.send(target, "GET", head, repeatable=True)
        await send({"type": "http.response.start", "status": answer.status, "headers": answer.headers})
        await send({"type": "http.response.body", "body": answer.whole() or b""})
        answer.close()

    def refuse_head(self, reason: str, address: str) -> tuple[int, bytes, bytes]:
        """What the strict protocol answers to a head that it refuses."""
        return 400, b"", b""


BACKEND_PORT = 17450
app = PassThrough()


def serve(server: str, port: int) -> None:
    """Run one server until ended."""
    if server == "granian":
        from granian import Granian
        from granian.constants import Interfaces, Loops

        Granian("servers:app", port=port, interface=Interfaces.ASGINL, loop=Loops.uvloop, log_enabled=False).serve()
        return
    import uvicorn

    if server == "strict":
        from tamarack.gateway.node import server_config
        from tamarack.settings import Settings

        config = server_config(app, Settings(), "127.0.0.1", port)  # type: ignore[arg-type]
    else:
        config = uvicorn.Config(app, port=port, http="httptools", loop="uvloop", lifespan="off", log_level="critical")
    uvicorn.Server(config).run()


def answer_to(port: int, request: bytes) -> str:
    """The status that a server answers, or that it closes or waits."""
    with socket.create_connection(("127.0.0.1", port), 3) as connection:
        connection.settimeout(2)
        try:
            connection.sendall(request)
            line = connection.recv(200).split(b"\r\n")[0].decode("latin-1")
        except TimeoutError:
            return "waits"
        except OSError:
            return "closes"
    return line.split()[1] if line else "closes"


def family(pid: int) -> list[int]:
    """A process and those that it started."""
    stats = {int(path.parent.name): path for path in Path("/proc").glob("[0-9]*/stat")}
    parents = {}
    for one, path in stats.items():
        try:
            parents[one] = int(path.read_text().rpartition(")")[2].split()[1])
        except OSError:
            continue
    return [pid, *(one for one, parent in parents.items() if parent == pid)]


def main() -> None:
    """Run the bench and print both tables."""
    if len(sys.argv) == 4 and sys.argv[1] == "serve":
        serve(sys.argv[2], int(sys.argv[3]))
        return
    from gateway import cpu_seconds, load, wait_for

    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--seconds", type=int, default=2)
    given = parser.parse_args()
    commands = [[sys.executable, str(HERE / "programs.py"), "backend", str(BACKEND_PORT), "0"]]
    ports = {server: BACKEND_PORT + 1 + place for place, server in enumerate(SERVERS)}
    commands += [[sys.executable, str(HERE / "servers.py"), "serve", server, str(ports[server])] for server in SERVERS]
    programs = [subprocess.Popen(command, cwd=HERE, stderr=subprocess.DEVNULL) for command in commands]
    rates: dict[str, list[float]] = {server: [] for server in SERVERS}
    cpu: dict[str, list[float]] = {server: [] for server in SERVERS}
    try:
        for port in ports.values():
            wait_for(port)
        print(f"{'answer to':<32}" + "".join(f"{TITLES[server]:>28}" for server in SERVERS))
        for name, request in DOUBTFUL.items():
            print(f"{name:<32}" + "".join(f"{answer_to(ports[server], request):>28}" for server in SERVERS))
        for _ in range(given.rounds):
            for server, program in zip(SERVERS, programs[1:], strict=True):
                before = sum(map(cpu_seconds, family(program.pid)))
                rates[server].append(load(ports[server], given.seconds, 32)[0])
                used = sum(map(cpu_seconds, family(program.pid))) - before
                cpu[server].append(used / (rates[server][-1] * given.seconds) * 1e6)
    finally:
        for program in programs:
            program.send_signal(signal.SIGTERM)
        time.sleep(0.2)
        for program in programs:
            program.wait(15)
    print(
        f"{'pass-through, calls/s':<32}" + "".join(f"{statistics.median(rates[server]):>28,.0f}" for server in SERVERS)
    )
    print(
        f"{'processor time a call, µs':<32}" + "".join(f"{statistics.median(cpu[server]):>28.1f}" for server in SERVERS)
    )
    ratio = {s: statistics.median(a / b for a, b in zip(rates[s], rates["uvicorn"], strict=True)) for s in SERVERS}
    print(f"{'to uvicorn':<32}" + "".join(f"{ratio[server]:>28.2f}" for server in SERVERS))


if __name__ == "__main__":
    main()
