"""Near-equal prompts: what finding out a meaning, searching among kept ones and the guard cost, beside comparing with
every meaning; how many are missed; and what kept questions take of memory. In one process, bounded in number."""

import argparse
import itertools
import resource
import statistics
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

from tamarack.core.caching.kept import Kept, Terms
from tamarack.core.caching.memory import MemoryCache
from tamarack.core.language_models.near_equal.index import Meanings
from tamarack.core.language_models.near_equal.question import Question, why_not_the_same
from tamarack.core.language_models.near_equal.wording import wording
from tamarack.embedding import load

ASKS = ("When does the {} ferry to {} leave on {}?", "Is the {} ferry to {} late on {}?",
        "Draft a notice that the {} ferry to {} is late on {}.", "How much does the {} ferry to {} cost on {}?",
        "May I bring a bicycle on the {} ferry to {} on {}?")  # fmt: skip
WHICH = ("first", "last", "next", "early", "late", *(f"{hour:02}:{minute:02}" for hour in range(6, 22)
                                                       for minute in (5, 20, 35, 50)))  # fmt: skip
PORTS = ("Corran", "Finnvik", "Eskholm", "Dunmoor", "Aldernes", "Brae Haven")
DAYS = [f"{day} {month}" for month in ("March", "May", "June", "July") for day in range(1, 29)]
NEAREST = 0.8


def questions(many: int) -> list[str]:
    """So many different questions of one trade: nearer to one another than those of a real caller."""
    every = itertools.product(DAYS, WHICH, PORTS, ASKS)
    made = [ask.format(which, port, day) for day, which, port, ask in itertools.islice(every, many)]
    return list(dict.fromkeys(made))


def microseconds(run: Callable[[int], Any], times: int) -> float:
    """The median time of a run."""
    took = []
    for number in range(times):
        began = time.perf_counter()
        run(number)
        took.append((time.perf_counter() - began) * 1e6)
    return statistics.median(took)


def resident_mb() -> float:
    """The most memory that the process had."""
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024


def current_mb() -> float:
    """The memory that the process has now."""
    return int(Path("/proc/self/statm").read_text().split()[1]) * resource.getpagesize() / 1e6


def search(meanings: Any, times: int) -> None:
    """Searching one group of growing size, beside comparing with every meaning."""
    chance = np.random.default_rng(3)
    print(f"\n{'search in one group':<30}{'µs':>9}{'every, µs':>11}{'ratio':>8}{'missed':>8}")
    for many in (1_000, 10_000, len(meanings)):
        index, held = Meanings(), np.asarray(meanings[:many])
        for number in range(many):
            index.put(b"group", b"%d" % number, held[number])
        asked = held[chance.integers(0, many, times)] + chance.normal(0, 0.03, (times, held.shape[1]))
        asked = (asked / np.linalg.norm(asked, axis=1, keepdims=True)).astype(np.float32)
        found = [index.nearest(b"group", one, NEAREST, lambda key, alike: True) for one in asked]
        best = [float((held @ one).max()) for one in asked]
        missed = sum(
            mine is None or mine[1] < most - 0.005 for mine, most in zip(found, best, strict=True) if most >= NEAREST
        )
        took = microseconds(lambda n: index.nearest(b"group", asked[n], NEAREST, lambda key, alike: True), times)  # noqa: B023
        every = microseconds(lambda n: (held @ asked[n]).max(), times)  # noqa: B023
        print(f"{many:>10,} questions{'':<10}{took:>9.0f}{every:>11.0f}{took / every:>8.2f}{missed:>5} of {times}")


def memory(texts: list[str], meanings: Any, most_mb: int) -> None:
    """What kept answers with their questions take, and that the bound holds."""
    cache = MemoryCache(most_mb * 1_000_000)
    before = current_mb()
    terms = Terms(600, 0, 0, False)
    for number, text in enumerate(texts):
        question = Question(text, b"group", wording(text), lambda _, number=number: meanings[number])  # type: ignore[misc]
        kept = Kept("p", b"12345678POST http://h/a\n%d" % number, 200, b"", b"x" * 400, terms, 0, 0)
        kept.answers(question, 50, 900)
        cache.keep(kept)
    grew = current_mb() - before
    print(f"\n{len(cache):,} of {len(texts):,} answers of 400 B kept within {most_mb} MB, as counted"
          f" {cache.size / 1e6:.0f} MB; the process grew by {grew:.0f} MB")  # fmt: skip


def main() -> None:
    """Run it all."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--questions", type=int, default=100_000)
    parser.add_argument("--times", type=int, default=200)
    given = parser.parse_args()
    empty = resident_mb()
    embed = load()
    print(f"the model takes {resident_mb() - empty:.0f} MB")
    texts = questions(given.questions)
    print(f"\n{'one question':<30}{'µs':>9}")
    print(f"{'its words':<30}{microseconds(lambda n: wording(texts[n]), given.times):>9.0f}")
    print(
        f"{'its meaning':<30}{microseconds(lambda n: embed(texts[n] + ' Thank you for an answer.'), given.times):>9.0f}"
    )
    made = [Question(text, b"g", wording(text), embed) for text in texts[: given.times + 1]]
    guard = microseconds(lambda n: why_not_the_same(made[n], made[n + 1], embed), given.times)
    print(f"{'the guard, with another':<30}{guard:>9.0f}")
    meanings = np.asarray([embed(text) for text in texts])
    search(meanings, given.times)
    memory(texts, meanings, 128)


if __name__ == "__main__":
    main()
