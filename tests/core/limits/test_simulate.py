"""Holding, pictures and advice: what a limit does to calls as they come, against slow and simple oracles."""

from fractions import Fraction

from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import TypeAdapter

from tamarack.core.limits.advice import SHARES, peak_aligned, peak_anywhere, smallest_bursts
from tamarack.core.limits.simulate import simulate
from tamarack.core.limits.window import Window

_WINDOW = TypeAdapter(Window)
MS = 1000
S = 1_000_000
START = 1_795_000_000 * S
_ARRIVALS = st.lists(st.integers(0, 20_000), max_size=60).map(lambda times: [START + at * MS for at in sorted(times)])
_TEXTS = st.sampled_from(
    ["2 per second", "3 per 2 seconds, sliding", "2 per second, burst 3", "0.5 per second, burst 1"]
)


def window(text: str) -> Window:
    return _WINDOW.validate_python(text)


@given(_ARRIVALS, _TEXTS, st.integers(0, 4000), st.integers(1, 4))
def test_held_calls_keep_their_order_their_time_and_their_places(
    arrivals: list[int], text: str, hold_ms: int, queue: int
) -> None:
    calls = simulate([window(text)], arrivals, hold_ms, queue).calls
    assert [call.at for call in calls] == arrivals
    let_in = [call for call in calls if call.outcome != "refused"]
    moments = [call.decided for call in let_in]
    assert moments == sorted(moments)  # in order
    assert all(call.decided - call.at <= hold_ms * MS for call in calls)
    assert all(call.decided == call.at for call in calls if call.outcome == "admitted")
    for at in arrivals:
        waiting = [call for call in calls if call.decided > call.at and call.at <= at < call.decided]
        assert len(waiting) <= queue


@given(_ARRIVALS, _TEXTS, st.integers(0, 4000), st.integers(1, 4))
def test_whoever_is_let_in_after_waiting_would_also_have_been_let_in_then_by_the_limit_alone(
    arrivals: list[int], text: str, hold_ms: int, queue: int
) -> None:
    held = simulate([window(text)], arrivals, hold_ms, queue)
    moments = sorted(call.decided for call in held.calls if call.outcome != "refused")
    assert simulate([window(text)], moments).count("refused") == 0
    assert held.count("refused") <= simulate([window(text)], arrivals).count("refused")


def test_a_burst_is_spread_over_the_seconds_that_follow() -> None:
    result = simulate([window("1 per second, burst 1")], [START] * 5, 3000, 3)
    assert [call.outcome for call in result.calls] == ["admitted", "held", "held", "held", "refused"]
    assert [call.decided - START for call in result.calls] == [0, S, 2 * S, 3 * S, 0]


def test_the_level_of_a_bucket_falls_with_calls_and_rises_with_time() -> None:
    looks = [START - 1, START + MS, START + S, START + 10 * S]
    result = simulate([window("1 per second, burst 3")], [START] * 3, look_at=looks)
    assert [round(level[0], 3) for _, level in result.levels] == [3.0, 0.001, 1.0, 3.0]


@settings(deadline=None)
@given(st.lists(st.integers(0, 9_000), min_size=1, max_size=40).map(sorted), st.integers(1, 5), st.integers(1, 3))
def test_the_smallest_burst_is_the_smallest_that_is_enough(times: list[int], limit: int, seconds: int) -> None:
    arrivals = [START + at * MS for at in times]
    found = smallest_bursts(arrivals, limit, seconds)
    for share in SHARES:
        for burst in range(1, len(arrivals) + 1):
            made = Window(limit=limit, seconds=seconds, algorithm="bucket", burst=burst)
            passed = len(arrivals) - simulate([made], arrivals).count("refused")
            if passed >= share * len(arrivals):
                break
        assert found[share] == burst


def test_no_calls_need_no_more_than_the_smallest_burst() -> None:
    assert smallest_bursts([], 1, 1, [Fraction(1)]) == {Fraction(1): 1}


@given(st.lists(st.integers(0, 30_000), min_size=1, max_size=60).map(sorted), st.integers(1, 7))
def test_peaks_are_the_most_calls_in_any_stretch(times: list[int], seconds: int) -> None:
    arrivals = [START + at * MS for at in times]
    length = seconds * S
    anywhere = max(sum(1 for other in arrivals if at - length < other <= at) for at in arrivals)
    aligned = max(sum(1 for other in arrivals if other // length == at // length) for at in arrivals)
    assert (peak_anywhere(arrivals, seconds), peak_aligned(arrivals, seconds)) == (anywhere, aligned)
