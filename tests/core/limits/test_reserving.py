"""Reserving: a call counts an estimate when it comes, and what it used is settled when it ends."""

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import TypeAdapter

from tamarack.core.limits.memory import MemoryCounters
from tamarack.core.limits.store import Limiter
from tamarack.core.limits.stretch import Stretch
from tamarack.core.limits.told import standard
from tamarack.core.limits.unit import Unit
from tamarack.core.limits.window import Window

_WINDOW = TypeAdapter(Window)
NOW = 1_795_000_000.0


def tokens(*texts: str, name: str = "tokens", unit: Unit = "tokens") -> Limiter:
    return Limiter(name, name, tuple(_WINDOW.validate_python(text) for text in texts), "over-tokens", unit=unit)


def bound(*limiters: Limiter) -> MemoryCounters:
    store = MemoryCounters()
    for one in limiters:
        store.bind(one)
    return store


WINDOWS = ["40 per 10 seconds", "40 per 10 seconds, sliding", "4 per second, burst 40", "stretch"]


def limited(text: str) -> Limiter:
    if text != "stretch":
        return tokens(text)
    return Limiter("@tokens/p", "budget", (Stretch(40, int(NOW) // 10 * 10, int(NOW) + 1000, "day"),), unit="tokens")


_CALLS = st.lists(
    st.tuples(st.integers(0, 25_000), st.integers(0, 20), st.integers(0, 30), st.integers(0, 8_000)), max_size=60
).map(sorted)
"""When each comes (ms), what it reserves, what it uses, and how long it is under way (ms)."""


@given(calls=_CALLS, text=st.sampled_from(WINDOWS))
def test_what_was_admitted_never_exceeds_the_limit_by_more_than_was_under_way(
    calls: list[tuple[int, int, int, int]], text: str
) -> None:
    """Whatever is admitted, all that counts is within the limit, but for what calls used beyond their estimates."""
    limiter = limited(text)
    store = bound(limiter)
    ends: list[tuple[int, int, int, int]] = []
    admitted: list[tuple[int, int]] = []
    beyond = 0
    for at, reserved, used, lasts in [*calls, (10**6, 0, 0, 0)]:
        for end, came, owed, _ in sorted(one for one in ends if one[0] <= at):
            store.add([(limiter, "x", owed)], NOW + end / 1000, NOW + came / 1000)
            ends = [one for one in ends if one[0] > at]
        if at < 10**6 and store.take([(limiter, "x", reserved)], NOW + at / 1000).admitted:
            ends.append((at + lasts, at, used - reserved, 0))
            admitted.append((at, used))
            beyond += max(0, used - reserved)
    for start, _ in admitted:  # every stretch of a window's length that a call begins
        length = 25_001 if text == "stretch" else 10_000
        aligned = (int(NOW) * 1000 + start) // 10_000 * 10_000 - int(NOW) * 1000 if text == WINDOWS[0] else start
        counted = sum(used for at, used in admitted if aligned <= at < aligned + length)
        refill = 40 if text == WINDOWS[2] else 0  # of a bucket: what runs in while the stretch lasts
        under_way = max((lasts for _, _, _, lasts in calls), default=0) * 4 / 1000 if refill else 0
        assert counted <= 40 + refill + beyond + under_way


@pytest.mark.parametrize("text", WINDOWS)
def test_what_was_reserved_and_not_used_is_there_again(text: str) -> None:
    limiter = limited(text)
    store = bound(limiter)
    assert store.take([(limiter, "x", 30)], NOW).left == 10
    assert not store.take([(limiter, "x", 20)], NOW).admitted
    store.add([(limiter, "x", -25)], NOW)
    assert store.take([(limiter, "x", 20)], NOW).left == 15


@pytest.mark.parametrize("text", WINDOWS)
@given(taken_back=st.integers(1, 1000))
def test_no_more_is_taken_back_than_there_is(text: str, taken_back: int) -> None:
    limiter = limited(text)
    store = bound(limiter)
    store.add([(limiter, "x", -taken_back)], NOW)
    store.take([(limiter, "x", 5)], NOW)
    store.add([(limiter, "x", -5 - taken_back)], NOW)
    assert store.take([(limiter, "x", 40)], NOW).left == 0


@pytest.mark.parametrize("text", WINDOWS[:2])
def test_what_was_reserved_in_a_stretch_that_is_over_takes_nothing_from_the_next(text: str) -> None:
    limiter = limited(text)
    store = bound(limiter)
    store.take([(limiter, "x", 30)], NOW)
    later = NOW + 11
    store.take([(limiter, "x", 30)], later)
    store.add([(limiter, "x", -30)], later, NOW)
    assert store.take([(limiter, "x", 10)], later).left == 0


def test_calls_and_tokens_are_told_side_by_side() -> None:
    calls = Limiter("steady", "steady", (_WINDOW.validate_python("5 per minute"),))
    limiter = tokens("1000 per minute", unit="prompt tokens")
    taken = bound(calls, limiter).take([(calls, "x", 1), (limiter, "x", 120)], 1_795_000_020.0)
    fields = dict(line.split(": ", 1) for line in standard(taken).decode().split("\r\n") if line)
    assert fields == {
        "ratelimit-policy": '"steady";q=5;w=60, "tokens";q=1000;qu="prompt-tokens";w=60',
        "ratelimit": '"steady";r=4;t=60, "tokens";r=880;t=60',
    }


def test_a_refusal_names_the_limit_of_tokens_whatever_is_left_of_calls() -> None:
    calls: Any = Limiter("steady", "steady", (_WINDOW.validate_python("5 per minute"),))
    limiter = tokens("100 per minute")
    taken = bound(calls, limiter).take([(calls, "x", 1), (limiter, "x", 101)], NOW)
    assert (taken.admitted, taken.limiter.reason, taken.tokens) == (False, "over-tokens", None)
