"""Windows and their counters: what is written is what is counted, and never more than that is let through."""

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import TypeAdapter, ValidationError

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
    ],
)
def test_a_window_is_read_from_words(text: str, limit: int, seconds: int) -> None:
    assert window(text) == Window(limit=limit, seconds=seconds)


@pytest.mark.parametrize(
    "text", ["", "60", "60 per fortnight", "per minute", "-1 per minute", "0 per minute", "x per day"]
)
def test_a_window_that_cannot_be_read_is_refused_by_its_value(text: str) -> None:
    with pytest.raises(ValidationError, match="limit"):
        window(text)


@given(st.integers(1, 10**9), st.integers(1, 366 * 86400))
def test_what_is_written_is_read_back(limit: int, seconds: int) -> None:
    made = Window(limit=limit, seconds=seconds)
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
        taken = store.take([(limiter, key)], now)
        assert taken.admitted == room
        if room:
            admitted.append((now, key))
        else:
            assert 1 <= taken.reset <= taken.window.seconds


def test_a_refusal_by_one_limiter_consumes_nothing_from_the_others() -> None:
    store = MemoryCounters()
    wide, tight = Limiter("a", "wide", (window("10 per day"),)), Limiter("b", "tight", (window("1 per day"),))
    store.bind(wide)
    store.bind(tight)
    store.take([(wide, "x"), (tight, "x")], 5)
    for _ in range(5):
        refused = store.take([(wide, "x"), (tight, "x")], 5)
        assert not refused.admitted
        assert refused.limiter is tight
    assert store.take([(wide, "x")], 5).left == 8


def test_a_clock_that_goes_backwards_stays_in_the_later_window() -> None:
    store, limiter = MemoryCounters(), Limiter("a", "a", (window("1 per minute"),))
    store.bind(limiter)
    assert store.take([(limiter, "x")], 125.0).admitted
    assert not store.take([(limiter, "x")], 30.0).admitted
    assert store.take([(limiter, "x")], 185.0).admitted


def test_counts_outlast_a_rollout_and_follow_the_new_limit() -> None:
    store = MemoryCounters()
    before, after = (
        Limiter("api/steady", "steady", (window("5 per day"),)),
        Limiter("api/steady", "steady", (window("2 per day"),)),
    )
    store.bind(before)
    store.take([(before, "x")], 1)
    store.bind(after)
    assert store.take([(after, "x")], 1).left == 0
    assert not store.take([(after, "x")], 1).admitted


def test_the_fields_name_each_window_and_tell_the_tightest() -> None:
    store, limiter = MemoryCounters(), Limiter("a", "steady", (window("20 per second"), window("3 per minute")))
    store.bind(limiter)
    taken = store.take([(limiter, "x")], 61.5)
    assert limiter.policy_field == b'"steady-second";q=20;w=1, "steady-minute";q=3;w=60'
    assert taken.limit_field == b'"steady-minute";r=2;t=59'
