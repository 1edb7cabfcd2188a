"""Kept answers at a large size: a hundred thousand of 2 kB within their bound, and what a look at one costs.

Figures of time stand beside those of a plain dictionary in the same run.
"""

import argparse
import gc
import resource
import time
from pathlib import Path

from tamarack.core.balancing.breaker import BreakerRules
from tamarack.core.balancing.health import HealthRules
from tamarack.core.balancing.route import Choice, Route
from tamarack.core.balancing.target_state import TargetState
from tamarack.core.caching.kept import Kept, Terms
from tamarack.core.caching.memory import SPACE, MemoryCache
from tamarack.core.carrying.call import Call
from tamarack.core.http.target import target_at

NOW = 1_800_000_000.0
TURNS = 200_000


def megabytes() -> float:
    """The memory that this process has in use."""
    pages = Path("/proc/self/statm").read_text().split()[1]
    return int(pages) * resource.getpagesize() / 1e6


def answers(many: int, size: int) -> None:
    """Fill a table, beyond its bound, and look at what is in it."""
    keys = [b"\0" * SPACE + b"GET http://gateway.example/sailings/v2/sailings/%d" % place for place in range(many)]
    gc.collect()
    before = megabytes()
    bound = many * (size + 600)
    cache = MemoryCache(bound)
    terms = Terms(60, 0, 0, False)
    fields = b'content-type: application/json\r\ncache-control: max-age=60\r\netag: "7"\r\n'
    began = time.perf_counter()
    for place, key in enumerate(keys):
        cache.keep(Kept("sailings/2/response-cache", key, 200, fields, b"%0*d" % (size, place), terms, NOW, NOW))
    kept_us = (time.perf_counter() - began) / many * 1e6
    grown = megabytes() - before
    plain = dict.fromkeys(keys, 0)
    began = time.perf_counter()
    for key in keys:
        plain.get(key)
    base = (time.perf_counter() - began) / many * 1e6
    began = time.perf_counter()
    for key in keys:
        cache.get(key)
    look = (time.perf_counter() - began) / many * 1e6
    began = time.perf_counter()
    for place, key in enumerate(keys[: many // 4]):
        other = key + b"?again"
        cache.keep(Kept("sailings/2/response-cache", other, 200, fields, b"%0*d" % (size, place), terms, NOW, NOW))
    full_us = (time.perf_counter() - began) / (many // 4) * 1e6
    print(f"{len(cache):,} answers of {size:,} bytes, bound {bound / 1e6:,.0f} MB, counted {cache.size / 1e6:,.0f} MB")
    print(f"  memory grown by {grown:,.0f} MB; {cache.evicted:,} put out by newer ones")
    print(f"  keeping one {kept_us:.2f} µs, when it is full {full_us:.2f} µs")
    print(f"  a look {look:.2f} µs ({look / base:.1f} times a dictionary's)")
    assert cache.size <= bound


def choosing() -> None:
    """Whose turn it is, of so many targets that are well."""
    call = Call(b"c", NOW, 0, "192.0.2.1")
    for many in (1, 2, 4, 16):
        choices = []
        for place in range(many):
            target = target_at(f"http://127.0.0.1:{place + 1}", 1000, 1000)
            state = TargetState("b", target.label, BreakerRules(), HealthRules())
            choices.append(Choice(target, state, weight=place % 3 + 1))
        route = Route(choices)
        began = time.perf_counter()
        for _ in range(TURNS):
            choice = route.choose(call)
            assert choice is not None and choice.state is not None
            choice.state.went()
            choice.state.under_way -= 1
            choice.state.noted(NOW, 200, "", False)
        print(f"  choosing among {many:>2} targets, and noting what came of it: "
              f"{(time.perf_counter() - began) / TURNS * 1e6:.2f} µs")  # fmt: skip


def main() -> None:
    """Run the bench and print its figures."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--answers", type=int, default=100_000)
    parser.add_argument("--bytes", type=int, default=2_000)
    given = parser.parse_args()
    answers(min(given.answers, 1_000_000), min(given.bytes, 20_000))
    choosing()


if __name__ == "__main__":
    main()
