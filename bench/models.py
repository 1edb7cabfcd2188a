"""Calls to a language model through the gateway: what limits and rules cost beside the API key alone, and what passing
adds to the first piece of a stream. All side by side in one run, on loopback, bounded in calls and time."""

import argparse
import asyncio
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from itertools import pairwise
from pathlib import Path
from typing import Any

import orjson
import uvloop

import programs
import ways

PATH = "/sailings/v2/sailings"
EVENTS, EVERY_S = 60, 0.002
COUNT = {"kind": "token-count"}
LIMIT = {"kind": "token-limit", "windows": ["900000000 per second", "900000000 per day"], "by": "caller"}
GUARD = {
    "kind": "prompt-guard",
    "bounds": ["max_tokens: up to 500"],
    "rules": ["refuse in prompts: launch code", "mask in prompts: #### ####", "mask in answers: skipper *"],
}
VARIANTS: dict[str, list[dict[str, Any]]] = {
    "key": [],
    "count": [COUNT],
    "limit": [COUNT, LIMIT],
    "guard": [COUNT, LIMIT, GUARD],
}
TITLES = {"key": "API key", "count": "key, tokens counted", "limit": "key, counted, token limit of two windows",
          "guard": "key, counted, token limit, prompt guard"}  # fmt: skip
TEXT = "The 14:05 from Corran to Finnvik is forty minutes late because of fog at Eskholm. " * 12
_DELTA = {"index": 0, "delta": {"content": "word "}, "finish_reason": None}
EVENT = b"data: " + orjson.dumps({"model": "m", "choices": [_DELTA]}) + b"\n\n"
LAST = b'data: {"choices":[],"usage":{"prompt_tokens":240,"completion_tokens":60}}\n\ndata: [DONE]\n\n'
WHOLE = orjson.dumps({
    "model": "m", "choices": [{"index": 0, "message": {"role": "assistant", "content": "word " * EVENTS}}],
    "usage": {"prompt_tokens": 240, "completion_tokens": EVENTS, "total_tokens": 300},
})  # fmt: skip
WHOLE_ANSWER = b"HTTP/1.1 200 OK\r\ncontent-type: application/json\r\ncontent-length: %d\r\n\r\n%b" % (
    len(WHOLE),
    WHOLE,
)
STREAM_HEAD = b"HTTP/1.1 200 OK\r\ncontent-type: text/event-stream\r\ntransfer-encoding: chunked\r\n\r\n"


def chunk(data: bytes) -> bytes:
    """A chunk of a body."""
    return b"%x\r\n%b\r\n" % (len(data), data)


async def model(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
    """A model's server: whole answers at once, streams an event every two milliseconds."""
    try:
        while True:
            head = await reader.readuntil(b"\r\n\r\n")
            length = next(int(line[15:]) for line in head.split(b"\r\n") if line.lower().startswith(b"content-length:"))
            body = await reader.readexactly(length)
            if b'"stream":true' not in body:
                writer.write(WHOLE_ANSWER)
                continue
            writer.write(STREAM_HEAD)
            for _ in range(EVENTS):
                writer.write(chunk(EVENT))
                await asyncio.sleep(EVERY_S)
            writer.write(chunk(LAST) + b"0\r\n\r\n")
    except (asyncio.IncompleteReadError, ConnectionError):
        writer.close()


def request(port: int, stream: bool) -> bytes:
    """A call, as its bytes."""
    body = orjson.dumps(
        {"model": "m", "stream": stream, "max_tokens": 200, "messages": [{"role": "user", "content": TEXT}]}
    )
    fields = f"host: 127.0.0.1:{port}\r\nx-skerry-key: {ways.KEY}\r\ncontent-type: application/json\r\n"
    return f"POST {PATH} HTTP/1.1\r\n{fields}content-length: {len(body)}\r\n\r\n".encode() + body


async def calls_a_second(port: int, seconds: float, connections: int = 8) -> float:
    """How many whole answers a second some kept connections get."""
    sent, done, until = request(port, False), 0, time.perf_counter() + seconds

    async def one() -> None:
        nonlocal done
        reader, writer = await asyncio.open_connection("127.0.0.1", port)
        while time.perf_counter() < until:
            writer.write(sent)
            head = await reader.readuntil(b"\r\n\r\n")
            assert head.startswith(b"HTTP/1.1 200"), head
            if b"content-length" in head:
                line = next(line for line in head.split(b"\r\n") if line.startswith(b"content-length"))
                await reader.readexactly(int(line[15:]))
            else:
                while int(await reader.readline(), 16):
                    await reader.readline()
                await reader.readline()
            done += 1
        writer.close()

    await asyncio.gather(*(one() for _ in range(connections)))
    return done / seconds


async def stream_times(port: int) -> tuple[float, list[float]]:
    """Milliseconds until the first event of a stream came, and between each and the next."""
    reader, writer = await asyncio.open_connection("127.0.0.1", port)
    began = time.perf_counter()
    writer.write(request(port, True))
    at = []
    while True:
        line = await reader.readline()
        if line.startswith(b"data: {"):
            at.append(time.perf_counter())
        if line.startswith(b"data: [DONE]"):
            break
    writer.close()
    return (at[0] - began) * 1000, [(b - a) * 1000 for a, b in pairwise(at)]


async def until_open(port: int) -> None:
    """Wait until something listens."""
    for _ in range(400):
        try:
            _, writer = await asyncio.open_connection("127.0.0.1", port)
        except OSError:
            await asyncio.sleep(0.05)
            continue
        writer.close()
        return
    raise SystemExit(f"nothing came up at port {port}")


async def compare(port: int, seconds: float, rounds: int) -> None:
    """Run it all, in turns, so that what the machine does besides meets all alike."""
    server = await asyncio.start_server(model, "127.0.0.1", port)
    folder = tempfile.TemporaryDirectory()
    ports = {name: port + place for place, name in enumerate(VARIANTS, 1)}
    running = [
        subprocess.Popen(  # noqa: ASYNC220 - before anything is measured
            [sys.executable, __file__, "--serve", name, "--port", str(at), "--backend", str(port),
                          "--folder", folder.name])
        for name, at in ports.items()
    ]  # fmt: skip
    try:
        for at in ports.values():
            await until_open(at)
        found: dict[str, list[float]] = {name: [] for name in VARIANTS}
        for _ in range(rounds):
            for name, at in ports.items():
                found[name].append(await calls_a_second(at, seconds))
        base = statistics.median(found["key"])
        print(f"{'whole answers, 1 kB of prompt':<46}{'calls/s':>9}{'to the key':>12}")
        for name, rates in found.items():
            rate = statistics.median(rates)
            print(f"{TITLES[name]:<46}{rate:>9.0f}{rate / base:>12.2f}")
        print(f"\n{'streams, an event every 2 ms':<46}{'first':>9}{'more':>9}{'p99 gap':>9}   in ms")
        firsts: dict[str, list[float]] = {}
        gaps: dict[str, list[float]] = {}
        for _ in range(rounds * 8):
            for name, at in {"direct": port, **ports}.items():
                first, between = await stream_times(at)
                firsts.setdefault(name, []).append(first)
                gaps.setdefault(name, []).extend(between)
        direct = statistics.median(firsts["direct"])
        for name, times in firsts.items():
            each = statistics.median(times)
            gap = statistics.quantiles(gaps[name], n=100)[98]
            title = TITLES.get(name, "asked directly")
            print(f"{title:<46}{each:>9.2f}{each - direct:>9.2f}{gap:>9.2f}")
    finally:
        for one in running:
            one.terminate()
        for one in running:
            one.wait()
        most = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
        print(f"\nthe most memory of a node: {most:.0f} MB")
        server.close()
        folder.cleanup()


def main() -> None:
    """Run the bench, or one of its nodes."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--port", type=int, default=7600, help="the first of the ports that are used")
    parser.add_argument("--seconds", type=float, default=2.0, help="for each variant in each round")
    parser.add_argument("--rounds", type=int, default=5)
    parser.add_argument("--serve", choices=VARIANTS, help=argparse.SUPPRESS)
    parser.add_argument("--backend", type=int, help=argparse.SUPPRESS)
    parser.add_argument("--folder", type=Path, help=argparse.SUPPRESS)
    given = parser.parse_args()
    if given.serve:
        ways.POLICIES[given.serve] = [ways.API_KEY, *VARIANTS[given.serve]]
        uvloop.run(programs.gateway(given.serve, given.port, given.backend, given.folder))
    else:
        uvloop.run(compare(given.port, given.seconds, given.rounds))


if __name__ == "__main__":
    main()
