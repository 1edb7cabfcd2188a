"""Limits at a large size: a million callers on one node, and advice on a million arrivals.

Each figure of time stands beside that of a plain dictionary count of the same calls, made in the same run.
"""

import argparse
import gc
import random
import resource
import subprocess
import sys
import time

from tamarack.core.limits.advice import peak_anywhere, smallest_bursts
from tamarack.core.limits.memory import MemoryCounters
from tamarack.core.limits.store import Limiter
from tamarack.core.limits.window import Window

CALLERS = 1_000_000
LIMIT = 3
NOW = 1_800_000_000.0
TEXTS = ("3 per day", "3 per day, sliding", "3 per day, burst 3")


def megabytes() -> float:
    """The most memory that this process has used."""
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024


def many_callers(window: Window) -> None:
    """Four calls of each of a million callers: exactly three of each have to pass."""
    keys = [f"{place:016x}" for place in range(CALLERS)]
    gc.collect()
    gc.freeze()
    before = megabytes()
    plain: dict[str, int] = {}
    began = time.perf_counter()
    for _ in range(LIMIT + 1):
        for key in keys:
            plain[key] = plain.get(key, 0) + 1
    base = time.perf_counter() - began
    del plain
    after_plain = megabytes()
    store = MemoryCounters()
    limiter = Limiter("bench", "bench", (window,))
    store.bind(limiter)
    admitted = 0
    began = time.perf_counter()
    for turn in range(LIMIT + 1):
        now = NOW + turn / 1000
        for key in keys:
            admitted += store.take([(limiter, key, 1)], now).admitted
    took = time.perf_counter() - began
    grown = megabytes() - min(before, after_plain)
    each = took / ((LIMIT + 1) * CALLERS) * 1e6
    exact = "exact" if admitted == LIMIT * CALLERS else f"WRONG: {admitted} admitted"
    print(
        f"{window!s:<24}{each:>9.2f}{took / base:>9.1f}x{max(0.0, grown):>9.0f}{grown / CALLERS * 1e6:>9.0f}   {exact}"
    )


def advice() -> None:
    """The smallest bursts for a million calls as they come to a busy API."""
    draw = random.Random(7)
    at, arrivals = 0.0, []
    for _ in range(1_000_000):
        at += draw.expovariate(10)
        arrivals.append(int(at * 1_000_000))
    for rate in (20, 12, 8):
        began = time.perf_counter()
        found = smallest_bursts(arrivals, rate, 1)
        took = time.perf_counter() - began
        shown = ", ".join(f"{float(share):.1%}: {burst}" for share, burst in found.items())
        print(f"smallest burst at {rate:>2} a second for 10 a second: {shown:<64}{took:>6.2f} s")
    began = time.perf_counter()
    peak = peak_anywhere(arrivals, 60)
    print(f"peak in any minute: {peak:<86}{time.perf_counter() - began:>6.2f} s")


def limit(text: str) -> Window:
    """One window, from how it is written."""
    return Window.model_validate(text)


def main() -> None:
    """Run each part in a process of its own, so that one's memory is not another's."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("limit", nargs="?", type=limit, help="this one alone, like '3 per day, sliding'")
    given = parser.parse_args().limit
    if given is not None:
        many_callers(given)
        return
    print(f"{CALLERS:,} callers, {LIMIT + 1} calls each, on one node")
    print(f"{'limit':<24}{'µs/call':>9}{'to a dict':>10}{'MB':>9}{'B/caller':>9}")
    for text in TEXTS:
        subprocess.run([sys.executable, __file__, text], check=True, timeout=300)
    advice()


if __name__ == "__main__":
    main()
