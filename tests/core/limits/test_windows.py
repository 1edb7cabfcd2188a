"""Windows and their counters: what is written is what is counted, and never more than that is let through."""

from fractions import Fraction
from typing import Any

import pytest
from hypothesis import assume, given
from hypothesis import strategies as st
from pydantic import TypeAdapter, ValidationError

from tamarack.core.configuration.layers import looser
from tamarack.core.limits.algorithms import SLICES, FixedCounts, counts_for
from tamarack.core.limits.memory import MemoryCounters
from tamarack.core.limits.store import Limiter
from tamarack.core.limits.window import Window, in_words

_WINDOW = TypeAdapter(Window)


def window(text: str) -> Window:
    return _WINDOW.validate_python(text)


@pytest.mark.parametrize(
    ("text", "limit", "seconds"),
    [
        ("60 per minute", 60, 60),
        ("10 per 5 seconds", 10, 5),
        ("1/second", 1, 1),
        ("100 000 per day", 100_000, 86400),
        ("2_000 per 2 hours", 2000, 7200),
        ("0.5 per second, burst 3", 1, 2),
        ("2.5 per second burst 9", 5, 2),
        ("60 per minute sliding", 60, 60),
    ],
)
def test_a_window_is_read_from_words(text: str, limit: int, seconds: int) -> None:
    read = window(text)
    assert (read.limit, read.seconds) == (limit, seconds)


@pytest.mark.parametrize(
    "text",
    [
        "",
        "60",
        "60 per fortnight",
        "per minute",
        "-1 per minute",
        "0 per minute",
        "x per day",
        "0.5 per second",
        "5 per second, burst 0",
        "5 per second, burst",
        "5 per day, burst 9000000",
        "5 per second, jumping",
    ],
)
def test_a_window_that_cannot_be_read_is_refused_by_its_value(text: str) -> None:
    with pytest.raises(ValidationError, match=r"limit|burst"):
        window(text)


@given(
    st.integers(1, 10**9),
    st.integers(1, 366 * 86400),
    st.sampled_from(["fixed", "sliding", "bucket"]),
    st.integers(1, 280),
)
def test_what_is_written_is_read_back(limit: int, seconds: int, algorithm: Any, burst: int) -> None:
    made = Window(limit=limit, seconds=seconds, algorithm=algorithm, burst=burst if algorithm == "bucket" else 0)
    assert window(str(made)) == made


def test_windows_are_said_in_words() -> None:
    assert in_words((window("60 per minute"), window("1000 per hour"))) == "60 times a minute and 1 000 times an hour"
    assert window("100000 per day").brief == "100 k / day"


_ARRIVALS = st.lists(st.tuples(st.floats(0, 200, allow_nan=False), st.sampled_from("ab")), max_size=120)


@given(_ARRIVALS, st.integers(1, 5), st.integers(1, 30), st.integers(1, 8), st.integers(31, 90), st.integers(1, 2))
def test_counters_agree_with_counting_by_hand(
    arrivals: list[tuple[float, str]], few: int, short: int, many: int, long: int, how_many: int
) -> None:
    """A call is let through exactly when every window has room, and a refused one counts nowhere."""
    windows = (Window(limit=few, seconds=short), Window(limit=many, seconds=long))[:how_many]
    store, limiter = MemoryCounters(), Limiter("api", "steady", windows)
    store.bind(limiter)
    admitted: list[tuple[float, str]] = []
    for now, key in sorted(arrivals):
        room = all(
            sum(1 for at, who in admitted if who == key and int(at) // w.seconds == int(now) // w.seconds) < w.limit
            for w in windows
        )
        taken = store.take([(limiter, key, 1)], now)
        assert taken.admitted == room
        if room:
            admitted.append((now, key))
        else:
            assert 1 <= taken.reset <= taken.window.seconds


MICRO = 1_000_000
_TIMES = st.lists(st.integers(0, 40 * MICRO), max_size=80).map(sorted)


def admitted_by(made: Window, times: list[int], cost: int = 1) -> list[int]:
    """When calls were let through, at the times they came."""
    counts = counts_for(made)
    through = []
    for at in times:
        left, seconds = counts.look("k", at, cost)
        assert seconds >= 1
        if left >= 0:
            counts.put("k", at, cost)
            through.append(at)
    return through


@given(_TIMES, st.integers(1, 6), st.integers(1, 9))
def test_a_sliding_window_never_lets_more_through_in_any_stretch_and_refuses_only_when_full(
    times: list[int], limit: int, seconds: int
) -> None:
    made = Window(limit=limit, seconds=seconds, algorithm="sliding")
    through = admitted_by(made, times)
    length, part = seconds * MICRO, seconds * MICRO // SLICES
    for at in through:
        assert sum(1 for other in through if at <= other < at + length) <= limit
    held: list[int] = []  # by hand: a call counts until its part of the window is a whole window past
    for at in times:
        counted = sum(1 for other in held if other // part >= at // part - SLICES)
        if counted < limit:
            held.append(at)
    assert through == held


@given(_TIMES, st.integers(1, 6), st.integers(1, 9), st.integers(1, 8), st.integers(1, 3))
def test_a_token_bucket_lets_through_exactly_what_its_level_allows(
    times: list[int], limit: int, seconds: int, burst: int, cost: int
) -> None:
    made = Window(limit=limit, seconds=seconds, algorithm="bucket", burst=burst)
    level, last = Fraction(burst), 0
    expected = []
    for at in times:  # by hand: the level in fractions
        level = min(Fraction(burst), level + Fraction(at - last, MICRO) * limit / seconds)
        last = at
        if level >= cost:
            level -= cost
            expected.append(at)
    through = admitted_by(made, times, cost)
    assert through == expected
    for first in range(len(through)):
        for after in range(first, len(through)):
            span = Fraction(through[after] - through[first], MICRO)
            assert (after - first + 1) * cost <= burst + span * limit / seconds


@given(
    _TIMES,
    st.sampled_from(["3 per 5 seconds", "3 per 5 seconds, sliding", "2 per 3 seconds, burst 4"]),
    st.integers(0, 40 * MICRO),
)
def test_a_refused_call_is_let_through_after_the_time_that_it_was_told(times: list[int], text: str, at: int) -> None:
    counts = counts_for(window(text))
    for moment in (*(one for one in times if one <= at), at):
        left, wait_us = counts.look("k", moment, 1)
        if left >= 0:
            counts.put("k", moment, 1)
    if left < 0:
        assert counts.look("k", at + wait_us - 1, 1)[0] < 0  # a microsecond earlier is too early
        assert counts.look("k", at + wait_us, 1)[0] >= 0


@given(_TIMES, st.sampled_from(["4 per 5 seconds, sliding", "2 per 3 seconds, burst 4", "4 per 5 seconds"]))
def test_what_is_left_is_what_is_let_through(times: list[int], text: str) -> None:
    counts = counts_for(window(text))
    for at in times:
        left, _ = counts.look("k", at, 1)
        if left >= 0:
            assert counts.look("k", at, left + 1)[0] == 0
            assert counts.look("k", at, left + 2)[0] < 0
            counts.put("k", at, 1)


@pytest.mark.parametrize("text", ["2 per 9 seconds, sliding", "2 per 9 seconds, burst 2", "2 per 9 seconds"])
def test_a_clock_that_goes_backwards_lets_nothing_more_through(text: str) -> None:
    counts = counts_for(window(text))
    for at in (100, 99):
        assert counts.look("k", at * MICRO, 1)[0] >= 0
        counts.put("k", at * MICRO, 1)
    assert counts.look("k", 50 * MICRO, 1)[0] < 0
    assert counts.look("k", 120 * MICRO, 1)[0] >= 0


@pytest.mark.parametrize("text", ["5 per second, sliding", "5 per second, burst 9"])
def test_callers_that_are_gone_are_forgotten(text: str) -> None:
    counts = counts_for(window(text))
    assert not isinstance(counts, FixedCounts)
    for number in range(1000):
        counts.look(f"k{number}", 0, 1)
        counts.put(f"k{number}", 0, 1)
    for at in (60, 120, 180):
        counts.look("other", at * MICRO, 1)
        counts.put("other", at * MICRO, 1)
    assert len(counts._states) <= 2


def _windows(most: int) -> st.SearchStrategy[Window]:
    return st.builds(
        lambda limit, seconds, algorithm, burst: Window(
            limit=limit, seconds=seconds, algorithm=algorithm, burst=burst if algorithm == "bucket" else 0
        ),
        st.integers(1, most), st.integers(1, 12), st.sampled_from(["fixed", "sliding", "bucket"]), st.integers(1, 6),
    )  # fmt: skip


@given(_TIMES, _windows(40), _windows(4))
def test_a_limit_that_is_said_never_to_be_reached_refuses_nothing(
    times: list[int], outer: Window, inner: Window
) -> None:
    assume(looser(outer, inner))
    through = admitted_by(inner, times)
    assert admitted_by(outer, through) == through


def test_algorithms_mix_in_one_policy_and_a_refusal_counts_nowhere() -> None:
    store = MemoryCounters()
    limiter = Limiter(
        "a", "mixed", (window("9 per hour"), window("1 per second, burst 2"), window("3 per minute, sliding"))
    )
    store.bind(limiter)
    outcomes = [store.take([(limiter, "x", 1)], 1000.0) for _ in range(4)]
    assert [one.admitted for one in outcomes] == [True, True, False, False]
    assert str(outcomes[2].window) == "1 per second, burst 2"
    later = [store.take([(limiter, "x", 1)], 1005.0) for _ in range(2)]
    assert [one.admitted for one in later] == [True, False]
    assert str(later[1].window) == "3 per minute, sliding"
    assert store.take([(limiter, "x", 2)], 1090.0).left == 0
    assert limiter.policy_field == b'"mixed-hour";q=9;w=3600, "mixed-second";q=2;w=2, "mixed-minute";q=3;w=60'


def test_a_refusal_by_one_limiter_consumes_nothing_from_the_others() -> None:
    store = MemoryCounters()
    wide, tight = Limiter("a", "wide", (window("10 per day"),)), Limiter("b", "tight", (window("1 per day"),))
    store.bind(wide)
    store.bind(tight)
    store.take([(wide, "x", 1), (tight, "x", 1)], 5)
    for _ in range(5):
        refused = store.take([(wide, "x", 1), (tight, "x", 1)], 5)
        assert not refused.admitted
        assert refused.limiter is tight
    assert store.take([(wide, "x", 1)], 5).left == 8


def test_a_clock_that_goes_backwards_stays_in_the_later_window() -> None:
    store, limiter = MemoryCounters(), Limiter("a", "a", (window("1 per minute"),))
    store.bind(limiter)
    assert store.take([(limiter, "x", 1)], 125.0).admitted
    assert not store.take([(limiter, "x", 1)], 30.0).admitted
    assert store.take([(limiter, "x", 1)], 185.0).admitted


def test_counts_outlast_a_rollout_and_follow_the_new_limit() -> None:
    store = MemoryCounters()
    before, after = (
        Limiter("api/steady", "steady", (window("5 per day"),)),
        Limiter("api/steady", "steady", (window("2 per day"),)),
    )
    store.bind(before)
    store.take([(before, "x", 1)], 1)
    store.bind(after)
    assert store.take([(after, "x", 1)], 1).left == 0
    assert not store.take([(after, "x", 1)], 1).admitted


def test_the_fields_name_each_window_and_tell_the_tightest() -> None:
    store, limiter = MemoryCounters(), Limiter("a", "steady", (window("20 per second"), window("3 per minute")))
    store.bind(limiter)
    taken = store.take([(limiter, "x", 1)], 61.5)
    assert limiter.policy_field == b'"steady-second";q=20;w=1, "steady-minute";q=3;w=60'
    assert taken.limit_field == b'"steady-minute";r=2;t=59'
