"""Hostile peers against the latency of a normal caller: the longest stall, and the growth of the node's memory.

Each attack runs for some seconds against a node of its own, while a normal caller asks again and again and notes the
longest time that an answer took. Bounded in connections, bytes and time; everything on loopback.
"""

import argparse
import contextlib
import os
import signal
import socket
import subprocess
import sys
import tempfile
import threading
import time
import urllib.error
import urllib.request
from collections.abc import Callable
from pathlib import Path

import ways

HERE = Path(__file__).parent
PATH = "/sailings/v2/sailings"
HOSTILE_BACKENDS = ("endless-field", "endless-interim", "endless-trailers")
CHUNKED = f"POST {PATH} HTTP/1.1\r\nhost: a\r\nx-skerry-key: {ways.KEY}\r\ntransfer-encoding: chunked\r\n\r\n".encode()
UNKNOWN = b"POST /nowhere HTTP/1.1\r\nhost: a\r\ntransfer-encoding: chunked\r\n\r\n"
LONG = f"POST {PATH} HTTP/1.1\r\nhost: a\r\nx-skerry-key: {ways.KEY}\r\ncontent-length: 100000000\r\n\r\n".encode()

Attack = Callable[[int, float], None]


def pour(start: bytes, piece: bytes, connections: int = 8) -> Attack:
    """Send without end on some connections, each made anew when it is closed."""

    def attack(port: int, until: float) -> None:
        def one() -> None:
            while time.monotonic() < until:
                with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", port), 2) as made:
                    made.settimeout(0.5)
                    made.sendall(start)
                    for _ in range(2_000):
                        made.sendall(piece)
                        if time.monotonic() > until:
                            return

        together([one] * connections)

    return attack


def drip(start: bytes, piece: bytes, connections: int) -> Attack:
    """Hold many connections, each with a byte or two now and then."""

    def attack(port: int, until: float) -> None:
        held = []
        for _ in range(connections):
            with contextlib.suppress(OSError):
                made = socket.create_connection(("127.0.0.1", port), 2)
                made.settimeout(0.2)
                held.append(made)
                made.sendall(start)
        while time.monotonic() < until:
            for made in held:
                with contextlib.suppress(OSError):
                    made.sendall(piece)
            time.sleep(0.05)
        for made in held:
            made.close()

    return attack


def ask_hostile(port: int, until: float) -> None:
    """Ask a backend that never ends, again and again."""
    request = f"GET {PATH}/hostile HTTP/1.1\r\nhost: a\r\nx-skerry-key: {ways.KEY}\r\n\r\n".encode()

    def one() -> None:
        while time.monotonic() < until:
            with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", port), 2) as made:
                made.settimeout(2)
                made.sendall(request)
                made.recv(65536)

    together([one] * 8)


def together(work: list[Callable[[], None]]) -> None:
    """Do some things at once."""
    threads = [threading.Thread(target=one) for one in work]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()


ATTACKS: dict[str, Attack] = {
    "nobody": lambda port, until: time.sleep(max(0.0, until - time.monotonic())),
    "trailers without end": pour(CHUNKED + b"0\r\n", b"x: " + b"y" * 8000 + b"\r\n"),
    "the same on an unknown path": pour(UNKNOWN + b"0\r\n", b"x: " + b"y" * 8000 + b"\r\n"),
    "one field without end": pour(b"GET / HTTP/1.1\r\nhost: a\r\nx: ", b"y" * 8000),
    "chunk extensions without end": pour(CHUNKED, b"1;" + b"x" * 4000 + b"\r\na\r\n"),
    "chunks of one byte": pour(CHUNKED, b"1\r\na\r\n" * 1500),
    "2,000 connections of empty lines": drip(b"\r\n", b"\r\n", 2_000),
    "1,100 slow posts": drip(LONG, b"x", 1_100),
    "a backend whose field has no end": ask_hostile,
    "a backend of interim answers": ask_hostile,
    "a backend whose trailers have no end": ask_hostile,
}
BACKEND_OF = dict(zip(list(ATTACKS)[-3:], HOSTILE_BACKENDS, strict=True))


def normal(port: int, until: float) -> tuple[int, float, float]:
    """A normal caller: how many answers, the median and the longest time of one, in ms."""
    request = f"GET {PATH} HTTP/1.1\r\nhost: a\r\nx-skerry-key: {ways.KEY}\r\n\r\n".encode()
    times = []
    made = socket.create_connection(("127.0.0.1", port), 5)
    while time.monotonic() < until:
        began = time.monotonic()
        made.sendall(request)
        got = b""
        while not got.endswith(b"x" * 1024):
            more = made.recv(65536)
            if not more:
                raise SystemExit("the normal caller was cut off")
            got += more
        times.append((time.monotonic() - began) * 1000)
        time.sleep(0.002)
    made.close()
    times.sort()
    return len(times), times[len(times) // 2], times[-1]


def resident(pid: int) -> int:
    """A process's memory in bytes."""
    return int(Path(f"/proc/{pid}/statm").read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE")


def wait_for(port: int) -> None:
    """Wait until a program answers."""
    until = time.monotonic() + 20
    while time.monotonic() < until:
        try:
            urllib.request.urlopen(f"http://127.0.0.1:{port}{PATH}", timeout=1).close()
            return
        except urllib.error.HTTPError:
            return
        except OSError:
            time.sleep(0.05)
    raise SystemExit(f"nothing answers on port {port}")


def main() -> None:
    """Run the bench and print its table."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seconds", type=int, default=4)
    parser.add_argument("--port-base", type=int, default=17600)
    given = parser.parse_args()
    print(f"{'attacked by':<40}{'answers':>9}{'median ms':>11}{'longest ms':>12}{'memory grew MB':>16}")
    for place, (name, attack) in enumerate(ATTACKS.items()):
        folder = Path(tempfile.mkdtemp(prefix="tamarack-wire-"))
        ways.write_keys(folder)
        backend, port = given.port_base + 2 * place, given.port_base + 2 * place + 1
        kind = BACKEND_OF.get(name, "backend")
        commands = [[kind, str(backend)], ["key", str(port)]]
        programs = []
        try:
            for command in commands:
                line = [sys.executable, str(HERE / "programs.py"), *command, str(backend), str(folder)]
                programs.append(subprocess.Popen(line))
                wait_for(int(command[1]))
            before = resident(programs[1].pid)
            most = [before]
            until = time.monotonic() + min(given.seconds, 60)
            attacking = threading.Thread(target=attack, args=(port, until))
            attacking.start()
            watching = threading.Thread(target=lambda: watch(programs[1].pid, until, most))  # noqa: B023
            watching.start()
            answers, median, longest = normal(port, until)
            attacking.join()
            watching.join()
            grew = (max(most) - before) / 1e6
            print(f"{name:<40}{answers:>9}{median:>11.2f}{longest:>12.1f}{grew:>16.1f}", flush=True)
        finally:
            for program in programs:
                program.send_signal(signal.SIGTERM)
            for program in programs:
                program.wait(15)


def watch(pid: int, until: float, most: list[int]) -> None:
    """Note a process's memory until a time."""
    while time.monotonic() < until:
        most.append(resident(pid))
        time.sleep(0.05)


if __name__ == "__main__":
    main()
