"""A node on one process and on several, side by side in one run on this machine.

The node is the real program, which serves what it kept: its control side is away. Each number of processes is loaded
in turn, several times over, and the ratio to one process is taken round by round. Load and backend want cores of their
own: beside those of `--processes` two should be free, or the ratio says what the machine has and not what the node can.
Bounded in connections and time.
"""

import argparse
import os
import shutil
import signal
import statistics
import subprocess
import sys
import tempfile
from pathlib import Path

from gateway import load, wait_for
from tamarack.core.configuration.model import Configuration
from tamarack.core.configuration.snapshot import compile_snapshot
from tamarack.gateway import identity
from tamarack.gateway.feed.kept import KeptState
from tamarack.gateway.processes.place import Place

HERE = Path(__file__).parent
NAME = "bench"


def configuration(backend: int) -> Configuration:
    """Sailings, open to anyone, so that what is measured is carrying."""
    version = {
        "version": "2", "base_path": "/sailings/v2", "backend": "timetable", "state": "published",
        "policies": [{"kind": "open"}], "operations": [{"call": "get /sailings"}],
    }  # fmt: skip
    return Configuration.model_validate(
        {
            "backends": [{"name": "timetable", "targets": [{"address": f"http://127.0.0.1:{backend}"}]}],
            "apis": [{"name": "sailings", "title": "Sailings", "versions": [version]}],
        }
    )


def prepare(home: Path, backend: int, processes: int) -> None:
    """A node's folder, as if it had joined and had taken up a rollout: one that each of its processes starts from."""
    key = "00" * 32
    identity.keep(
        home,
        {
            "feed": "http://127.0.0.1:9", "ca": "", "name": NAME, "environment": "production",
            "credential": "tmn_bench",
            "keys": {"pepper": key, "sealing": key, "asking": key},
            "addresses": {"portal": "http://127.0.0.1:9", "gateway": "http://127.0.0.1:9", "sign_in": ""},
            "reach": {"unreachable": "", "reachable": "127.0.0.0/8"},
        },
    )  # fmt: skip
    snapshot = compile_snapshot(configuration(backend), "production").model_dump(mode="json")
    for number in range(processes):
        KeptState(Place(number, processes).folder(home / "nodes" / NAME)).keep_snapshot(1, snapshot)


def main() -> None:
    """Run the bench and print its table."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--processes", type=int, default=2, help="how many are compared with one")
    parser.add_argument("--rounds", type=int, default=5)
    parser.add_argument("--seconds", type=int, default=3)
    parser.add_argument("--connections", type=int, default=64)
    parser.add_argument("--port-base", type=int, default=17500)
    given = parser.parse_args()
    if shutil.which("wrk") is None:
        raise SystemExit("the load is made by wrk: install Debian's package wrk")
    cores = len(os.sched_getaffinity(0))
    folder = Path(tempfile.mkdtemp(prefix="tamarack-bench-"))
    numbers = (1, min(max(given.processes, 2), 16))
    ports = {many: given.port_base + 1 + place for place, many in enumerate(numbers)}
    programs: list[subprocess.Popen[bytes]] = []
    rates: dict[int, list[float]] = {many: [] for many in numbers}
    try:
        command = [sys.executable, str(HERE / "programs.py"), "backend", str(given.port_base), "0", str(folder)]
        programs.append(subprocess.Popen(command))
        for many in numbers:
            home = folder / str(many)
            prepare(home, given.port_base, many)
            run = ["from tamarack.gateway.commands import main; main()", "run", "--home", str(home)]
            options = ["--port", str(ports[many]), "--processes", str(many)]
            environment = {**os.environ, "TAMARACK_METRICS_HOST": ""}
            with (folder / f"{many}.log").open("wb") as log:
                started = subprocess.Popen(
                    [sys.executable, "-c", *run, *options], stdout=log, stderr=log, env=environment
                )
            programs.append(started)
            wait_for(ports[many])
            load(ports[many], 1, given.connections, [])
        for _ in range(min(given.rounds, 50)):
            for many in numbers:
                rate, _, _, bad = load(ports[many], min(given.seconds, 30), min(given.connections, 256), [])
                if bad:
                    raise SystemExit(f"{bad} answers were not 2xx; see {folder}/{many}.log")
                rates[many].append(rate)
    finally:
        for program in programs:
            program.send_signal(signal.SIGTERM)
        for program in programs:
            program.wait(30)
        shutil.rmtree(folder, ignore_errors=True)
    print(f"{given.rounds} rounds of {given.seconds} s, {given.connections} connections, 1 kB answers, {cores} cores")
    for many in numbers:
        ratios = [one / base for one, base in zip(rates[many], rates[1], strict=True)]
        spread = f"{statistics.median(ratios):.2f} ({min(ratios):.2f} to {max(ratios):.2f})"
        print(
            f"{many:>3} process{'es' if many > 1 else '  '}{statistics.median(rates[many]):>10,.0f} calls/s{spread:>26}"
        )
    if cores < numbers[1] + 2:
        print(f"Load and backend share these {cores} cores with the node: run it where {numbers[1] + 2} are free.")


if __name__ == "__main__":
    main()
