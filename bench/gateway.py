"""The gateway against the floor of its stack and a reverse proxy in C, side by side in one run on this machine.

Each variant is loaded in turn, several times over, so that a drift of the machine's speed falls on all of
them; the ratio is taken round by round and its median printed. Bounded in connections and time.
"""

import argparse
import os
import re
import shutil
import signal
import statistics
import subprocess
import sys
import tempfile
import time
import urllib.error
import urllib.request
from pathlib import Path

import answers
import meters
import shapes
import ways
from tamarack.compiled import is_compiled

HERE = Path(__file__).parent
AS_PYTHON = "python:"
"""Before a variant: it runs as Python, though it is compiled."""
VARIED = "varied:"
"""Before a variant: the same program, where no two calls have the same fields, so that none are known again."""
SETS: dict[str, tuple[str, ...]] = {
    "whole": (
        "backend",
        "c-proxy",
        "floor",
        "no-policy",
        "key",
        "key-limit-record",
        "varied:key-limit-record",
        "python:key-limit-record",
    ),
    "ways": ("backend", "floor", *ways.POLICIES),
    "limits": ("backend", "floor", "key", *meters.VARIANTS),
    "answers": ("backend", "floor", "no-policy", *answers.VARIANTS),
    "shapes": ("backend", "floor", "no-policy", *shapes.VARIANTS),
}
TITLES = (
    ways.TITLES
    | meters.TITLES
    | answers.TITLES
    | shapes.TITLES
    | {
        "backend": "backend alone",
        "c-proxy": "reverse proxy in C",
        "floor": "floor: two protocols, nothing between",
        "no-policy": "gateway, no policy",
        "key-limit-record": "gateway, key + limit + recording",
        "varied:key-limit-record": "the same, each call with other fields",
        "python:key-limit-record": "the same as Python, not compiled",
    }
)


def wait_for(port: int) -> None:
    """Wait until a program answers."""
    until = time.monotonic() + 20
    while time.monotonic() < until:
        try:
            urllib.request.urlopen(f"http://127.0.0.1:{port}/sailings/v2/sailings", timeout=1).close()
            return
        except urllib.error.HTTPError:
            return
        except OSError:
            time.sleep(0.05)
    raise SystemExit(f"nothing answers on port {port}")


def load(
    port: int, seconds: int, connections: int, headers: list[str], varied: bool = False
) -> tuple[float, float, float, int]:
    """Load a program with wrk; returns calls per second, p50 and p99 in ms, and answers that were not 2xx."""
    command = [
        *("wrk", "-t1", f"-c{connections}", f"-d{seconds}s", "--latency"),
        *(("-s", str(HERE / "varied.lua")) if varied else ()),
        *(part for line in headers for part in ("-H", line)),
        *(
            "-H",
            "user-agent: bench/1",
            "-H",
            "accept: application/json",
            f"http://127.0.0.1:{port}/sailings/v2/sailings",
        ),
    ]
    text = subprocess.run(command, capture_output=True, text=True, check=True, timeout=seconds + 30).stdout
    rate = float(re.search(r"Requests/sec:\s+([0-9.]+)", text)[1])  # type: ignore[index]
    bad = re.search(r"Non-2xx or 3xx responses: (\d+)", text)
    return rate, _ms(text, "50%"), _ms(text, "99%"), int(bad[1]) if bad else 0


def cpu_seconds(pid: int) -> float:
    """The processor time that a process has used."""
    fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")


def _ms(text: str, share: str) -> float:
    value, unit = re.search(rf"{share}\s+([0-9.]+)(us|ms|s)", text).groups()  # type: ignore[union-attr]
    return float(value) * {"us": 0.001, "ms": 1.0, "s": 1000.0}[unit]


def start_redis(folder: Path, port: int) -> subprocess.Popen[bytes]:
    """A Redis of the bench's own, writing to disk every second as the start command's does."""
    if shutil.which("redis-server") is None:
        raise SystemExit("limits in Redis need Debian's package redis-server")
    os.environ["BENCH_REDIS"] = f"redis://127.0.0.1:{port}/0"
    options = ["--port", str(port), "--bind", "127.0.0.1", "--save", "", "--appendonly", "yes", "--dir", str(folder)]
    return subprocess.Popen(["redis-server", *options], stdout=subprocess.DEVNULL)


def start_c_proxy(folder: Path, port: int, backend: int) -> subprocess.Popen[bytes]:
    """A reverse proxy in C, of one process with kept connections, where Debian's package is installed."""
    configuration = folder / "proxy.conf"
    configuration.write_text(
        f"daemon off; master_process off; worker_processes 1; pid {folder}/proxy.pid; error_log stderr crit;"
        " events { worker_connections 1024; }"
        f" http {{ access_log off; client_body_temp_path {folder}/body; proxy_temp_path {folder}/proxy;"
        f" fastcgi_temp_path {folder}/f; uwsgi_temp_path {folder}/u; scgi_temp_path {folder}/s;"
        f" keepalive_requests 100000000; upstream b {{ server 127.0.0.1:{backend}; keepalive 64;"
        f" keepalive_requests 100000000; }} server {{ listen 127.0.0.1:{port}; location / {{ proxy_pass http://b;"
        ' proxy_http_version 1.1; proxy_set_header Connection ""; } } }'
    )
    return subprocess.Popen(["nginx", "-p", str(folder), "-c", str(configuration)])


def left_over(folder: Path, variant: str) -> str:
    """How many objects the collector of a program finds, that only it can free."""
    (folder / f"{variant}.collect").touch()
    until = time.monotonic() + 5
    while time.monotonic() < until:
        time.sleep(0.1)
        found = folder / f"{variant}.leftovers"
        if found.exists() and found.read_text():
            return found.read_text()
    return "?"


def main() -> None:
    """Run the bench and print its table."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--set", choices=SETS, default="whole", help="what is compared")
    parser.add_argument("--rounds", type=int, default=5)
    parser.add_argument("--seconds", type=int, default=3)
    parser.add_argument("--connections", type=int, default=32)
    parser.add_argument("--port-base", type=int, default=17400)
    given = parser.parse_args()
    if shutil.which("wrk") is None:
        raise SystemExit("the load is made by wrk: install Debian's package wrk")
    variants = SETS[given.set]
    if "c-proxy" in variants and shutil.which("nginx") is None:
        print("no reverse proxy in C is installed (Debian: nginx-light): its row is left out")
        variants = tuple(variant for variant in variants if variant != "c-proxy")
    if not is_compiled():
        print("the call path runs as Python: bin/compile compiles it")
        variants = tuple(variant for variant in variants if not variant.startswith(AS_PYTHON))
    ports = {variant: given.port_base + place for place, variant in enumerate(variants)}
    own = [variant for variant in variants if not variant.startswith(VARIED)]
    ports |= {variant: ports[variant.removeprefix(VARIED)] for variant in variants if variant not in own}
    folder = Path(tempfile.mkdtemp(prefix="tamarack-bench-"))
    ways.write_keys(folder)
    (folder / "python").mkdir()
    shutil.copy(folder / "keys.json", folder / "python")
    shown = {
        variant: ways.headers(variant.removeprefix(AS_PYTHON).removeprefix(VARIED), folder) for variant in variants
    }
    programs: dict[str, subprocess.Popen[bytes]] = {}
    redis = start_redis(folder, given.port_base + 99) if any(map(meters.in_redis, variants)) else None
    results: dict[str, list[tuple[float, float, float, int]]] = {variant: [] for variant in variants}
    cpu: dict[str, list[float]] = {variant: [] for variant in variants}
    try:
        for variant in own:
            if variant == "c-proxy":
                programs[variant] = start_c_proxy(folder, ports[variant], ports["backend"])
                wait_for(ports[variant])
                continue
            command = [sys.executable, str(HERE / "programs.py"), variant.removeprefix(AS_PYTHON), str(ports[variant])]
            kind = {"TAMARACK_COMPILED": "no"} if variant.startswith(AS_PYTHON) else {}
            place = folder / "python" if kind else folder
            command += [str(ports["backend"]), str(place)]
            programs[variant] = subprocess.Popen(command, env=os.environ | kind)
            wait_for(ports[variant])
        for variant in variants:
            load(ports[variant], 1, given.connections, shown[variant])
        for _ in range(min(given.rounds, 50)):
            for variant in variants:
                program = programs[variant.removeprefix(VARIED)]
                before = cpu_seconds(program.pid)
                done = load(ports[variant], min(given.seconds, 30), min(given.connections, 256), shown[variant],
                            variant not in own)  # fmt: skip
                results[variant].append(done)
                cpu[variant].append((cpu_seconds(program.pid) - before) / (done[0] * given.seconds) * 1e6)
        nodes = [one for one in own if one not in ("backend", "floor", "c-proxy")]
        left = {
            one: left_over(folder / "python" if one.startswith(AS_PYTHON) else folder, one.removeprefix(AS_PYTHON))
            for one in nodes
        }
    finally:
        if redis is not None:
            programs["redis"] = redis
        for program in programs.values():
            program.send_signal(signal.SIGTERM)
        for program in programs.values():
            program.wait(15)
        shutil.rmtree(folder, ignore_errors=True)
    print(f"{given.rounds} rounds of {given.seconds} s, {given.connections} connections, 1 kB answers")
    print(f"{'':<40}{'calls/s':>10}{'p50 ms':>9}{'p99 ms':>9}{'cpu µs':>9}{'to the floor':>26}{'left over':>11}")
    for variant in variants:
        rates = [one[0] for one in results[variant]]
        ratios = [one[0] / base[0] for one, base in zip(results[variant], results["floor"], strict=True)]
        median = [statistics.median(one[place] for one in results[variant]) for place in (0, 1, 2)]
        spread = f"{statistics.median(ratios):.2f} ({min(ratios):.2f} to {max(ratios):.2f})"
        figures = f"{median[0]:>10,.0f}{median[1]:>9.2f}{median[2]:>9.2f}{statistics.median(cpu[variant]):>9.1f}"
        print(f"{TITLES[variant]:<40}{figures}{spread:>26}{left.get(variant, ''):>11}")
        bad = sum(one[3] for one in results[variant])
        if bad or not rates:
            print(f"    {bad} answers were not 2xx")


if __name__ == "__main__":
    main()
