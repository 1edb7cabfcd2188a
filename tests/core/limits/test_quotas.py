"""Quotas: stretches tile time, exactly so many calls pass in each, and people are told of each mark once."""

from datetime import UTC, datetime
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from tamarack.core.carrying.metering import QuotaMeter
from tamarack.core.identity.caller import Grant
from tamarack.core.limits.memory import MemoryCounters
from tamarack.core.limits.quota import Quota, mark_of
from tamarack.core.limits.stretch import anchored_stretch, calendar_stretch

_MOMENTS = st.integers(1_500_000_000, 2_500_000_000)
_PERIODS: Any = st.sampled_from(["day", "week", "month"])
_ZONES = st.sampled_from(["UTC", "Europe/Oslo", "America/St_Johns", "Pacific/Apia", "Australia/Lord_Howe"])


@given(_PERIODS, _ZONES, _MOMENTS)
def test_the_calendars_stretches_tile_time(period: Any, zone: str, now: int) -> None:
    start, end = calendar_stretch(period, zone, now)
    assert start <= now < end
    assert calendar_stretch(period, zone, end)[0] == end
    assert calendar_stretch(period, zone, end - 1) == (start, end)


@given(_PERIODS, _MOMENTS, st.integers(0, 400_000_000))
def test_stretches_from_a_start_tile_time(period: Any, anchor: int, later: int) -> None:
    start, end = anchored_stretch(period, anchor, anchor + later)
    assert start <= anchor + later < end
    assert anchored_stretch(period, anchor, end)[0] == end
    assert anchored_stretch(period, anchor, anchor) == anchored_stretch(period, anchor, end - 1) or start > anchor


def _at(text: str) -> float:
    return datetime.fromisoformat(text).replace(tzinfo=UTC).timestamp()


@pytest.mark.parametrize(
    ("anchor", "now", "start", "end"),
    [
        ("2026-01-31T10:00", "2026-02-20T00:00", "2026-01-31T10:00", "2026-02-28T10:00"),
        ("2026-01-31T10:00", "2026-03-01T00:00", "2026-02-28T10:00", "2026-03-31T10:00"),
        ("2026-01-31T10:00", "2026-03-31T10:00", "2026-03-31T10:00", "2026-04-30T10:00"),
        ("2024-02-29T00:00", "2025-02-28T00:00", "2025-02-28T00:00", "2025-03-29T00:00"),
    ],
)
def test_a_month_counted_from_a_late_day_ends_on_the_last_day_of_a_short_month(
    anchor: str, now: str, start: str, end: str
) -> None:
    assert anchored_stretch("month", _at(anchor), _at(now)) == (_at(start), _at(end))


def test_a_day_on_which_the_clock_changes_is_an_hour_shorter_or_longer() -> None:
    lengths = []
    for text in ("2026-03-29T12:00", "2026-10-25T12:00"):
        start, end = calendar_stretch("day", "Europe/Oslo", _at(text))
        lengths.append((end - start) / 3600)
    assert lengths == [23, 25]


def test_a_time_zone_that_does_not_exist_is_refused_by_its_name() -> None:
    with pytest.raises(ValidationError, match="Europe/Atlantis"):
        Quota(calls=1, time_zone="Europe/Atlantis")


def _meter(store: MemoryCounters, **changes: Any) -> QuotaMeter:
    return QuotaMeter(Quota.model_validate({"calls": 3, "period": "day"} | changes), "@quota/passage", "skiff", store)


def _take(store: MemoryCounters, meter: QuotaMeter, grant: Grant, now: float, cost: int = 1) -> Any:
    return store.take([(meter.limiter(now, grant), grant.quota_key, cost)], now)


@given(st.lists(st.integers(0, 5 * 86_400), max_size=60), st.integers(1, 4), st.integers(0, 86_400))
def test_exactly_the_quota_passes_in_each_stretch(times: list[int], calls: int, since: int) -> None:
    store, anchor = MemoryCounters(), 1_795_000_000 - since
    meter = _meter(store, calls=calls, starts="subscription")
    grant = Grant("s", "passage/skiff", False, since=anchor)
    passed: dict[int, int] = {}
    came: dict[int, int] = {}
    for at in sorted(times):
        now = 1_795_000_000 + at
        stretch = (now - anchor) // 86_400
        came[stretch] = came.get(stretch, 0) + 1
        passed[stretch] = passed.get(stretch, 0) + _take(store, meter, grant, now).admitted
    assert passed == {stretch: min(many, calls) for stretch, many in came.items()}


def test_a_soft_quota_lets_everything_through_and_says_so() -> None:
    store, grant = MemoryCounters(), Grant("s", "passage/skiff", False)
    meter = _meter(store, when_used_up="let through")
    taken = [_take(store, meter, grant, 1_795_000_000.0) for _ in range(5)]
    assert [one.admitted for one in taken] == [True] * 5
    assert [one.left for one in taken] == [2, 1, 0, 0, 0]
    assert [one.over is not None for one in taken] == [False, False, False, True, True]


def test_calls_granted_on_top_hold_for_their_stretch_only_and_a_reset_begins_anew() -> None:
    store, now = MemoryCounters(), 1_795_046_400.0  # the start of a day
    meter = _meter(store)

    def passes(**changes: Any) -> bool:
        return bool(_take(store, meter, Grant("s", "passage/skiff", False, **changes), now).admitted)

    assert [passes() for _ in range(4)] == [True, True, True, False]
    granted = {"extra": (int(now), 2)}
    assert [passes(**granted) for _ in range(3)] == [True, True, False]
    assert not passes(extra=(int(now) - 86_400, 9))
    assert [passes(quota_round=1) for _ in range(4)] == [True, True, True, False]


def test_a_change_of_plan_goes_on_counting() -> None:
    store, grant = MemoryCounters(), Grant("s", "passage/skiff", False)
    small, large = _meter(store), _meter(store, calls=5)
    assert [_take(store, small, grant, 1.8e9).admitted for _ in range(4)] == [True, True, True, False]
    moved = Grant("s", "passage/cutter", False)
    assert [_take(store, large, moved, 1.8e9).admitted for _ in range(3)] == [True, True, False]


def test_what_was_counted_before_a_restart_counts_on() -> None:
    store, now = MemoryCounters(), 1_795_046_400
    store.restore("@quota/passage", "s", now - 86_400, 3)
    store.restore("@quota/passage", "s", now, 1)
    store.restore("@quota/passage", "s", now, 1)
    meter, grant = _meter(store), Grant("s", "passage/skiff", False)
    assert [_take(store, meter, grant, float(now)).admitted for _ in range(2)] == [True, False]


@given(st.integers(1, 1000), st.lists(st.integers(1, 300), max_size=30))
def test_each_mark_is_reached_once(limit: int, steps: list[int]) -> None:
    told, used, marks = 0, 0, []
    for step in steps:
        used += step
        mark = mark_of(used, limit)
        if mark > told:
            told = mark
            marks.append((mark, used))
    assert [mark for mark, _ in marks] == sorted({mark for mark, _ in marks})
    assert all(used * 100 >= mark * limit for mark, used in marks)
    assert (used * 100 >= 80 * limit) == bool(marks)
