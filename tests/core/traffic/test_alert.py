"""Alerts on made-up series: raised once it held for a time, over once it is well back, and no flapping between."""

from datetime import UTC, datetime, time, timedelta
from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from tamarack.core.traffic.alert import (
    MINUTE,
    Event,
    QuietHours,
    Rule,
    State,
    mail_due,
    read_limit,
    run,
    windows,
    written_limit,
)
from tamarack.core.traffic.explore import MEASURES
from tamarack.core.traffic.totals import Totals, together

START = datetime(2026, 11, 23, 8, 0, tzinfo=UTC)


def rule(**changes: object) -> Rule:
    values = {"title": "Fares fails", "measure": "failed share", "limit": 0.05, "window": 1, "holds": 3} | changes
    return Rule.model_validate(values)


def told(made: Rule, values: list[float | None]) -> list[tuple[str, int]]:
    """What is told of values, one for each minute; each with the minute that it is told after."""
    series = [(START + (place + 1) * MINUTE, value) for place, value in enumerate(values)]
    return [(event.what, (event.at - START) // MINUTE) for event in run(made, State(), series)[1]]


HIGH, LOW = 0.2, 0.01


def test_it_is_raised_once_the_condition_held_for_its_time() -> None:
    assert told(rule(), [LOW, HIGH, HIGH, HIGH, HIGH]) == [("raised", 4)]
    assert told(rule(), [HIGH, HIGH, LOW, HIGH, HIGH]) == []


def test_it_is_over_once_the_value_is_well_back_for_as_long() -> None:
    assert told(rule(), [HIGH] * 3 + [LOW] * 3) == [("raised", 3), ("over", 6)]
    assert told(rule(), [HIGH] * 3 + [LOW, LOW, HIGH, LOW, LOW, LOW]) == [("raised", 3), ("over", 9)]


def test_a_value_that_trembles_around_the_limit_raises_it_once() -> None:
    trembling = [0.051, 0.049] * 60
    assert told(rule(holds=1), trembling) == [("raised", 1)]
    assert len(told(rule(holds=1, hysteresis=0), trembling)) > 50  # it is the hysteresis that holds it


def test_minutes_without_anything_to_say_change_nothing() -> None:
    assert told(rule(), [HIGH, None, None, HIGH, None, HIGH]) == [("raised", 6)]
    assert told(rule(), [HIGH] * 3 + [None] * 60) == [("raised", 3)]


def test_below_a_limit_works_the_other_way_round() -> None:
    few = rule(measure="calls", side="below", limit=10, holds=2)
    assert told(few, [50, 5, 5, 10.5, 10.5, 12, 12]) == [("raised", 3), ("over", 7)]


_VALUES = st.lists(st.one_of(st.none(), st.floats(0, 0.2)), max_size=120)


@given(_VALUES, st.integers(1, 6), st.floats(0, 0.9), st.sampled_from(["above", "below"]))
def test_raised_and_over_take_turns_no_sooner_than_they_may(
    values: list[float | None], holds: int, hysteresis: float, side: str
) -> None:
    events = told(rule(holds=holds, hysteresis=hysteresis, side=side), values)
    assert [what for what, _ in events] == ["raised", "over"] * (len(events) // 2) + ["raised"] * (len(events) % 2)
    assert all(after - before >= holds for (_, before), (_, after) in pairwise(events))


@given(_VALUES, st.integers(0, 120))
def test_looking_in_two_goes_tells_what_looking_once_tells(values: list[float | None], place: int) -> None:
    series = [(START + (at + 1) * MINUTE, value) for at, value in enumerate(values)]
    whole = run(rule(), State(), series)
    state, first = run(rule(), State(), series[:place])
    state, rest = run(rule(), state, series[place:])
    assert (state, first + rest) == whole


def test_a_change_is_measured_against_the_same_minutes_of_earlier_weeks() -> None:
    more = rule(measure="calls", compare="change", limit=0.5)
    assert more.value_of(Totals(calls=150), [Totals(calls=80), Totals(calls=120)]) == pytest.approx(0.5)
    assert more.value_of(Totals(calls=150), [Totals(calls=100), Totals()]) == pytest.approx(0.5)
    assert more.value_of(Totals(calls=150), [Totals(), Totals()]) is None  # new traffic is no change


def test_of_too_few_calls_nothing_is_said() -> None:
    assert rule(least_calls=20).value_of(Totals(calls=19, failed=19)) is None
    assert rule(least_calls=20).value_of(Totals(calls=20, failed=5)) == 0.25
    assert rule().value_of(Totals()) is None


@given(st.lists(st.integers(0, 9), min_size=1, max_size=40), st.integers(1, 12))
def test_each_minute_is_measured_with_those_before_it(calls: list[int], window: int) -> None:
    points = [Totals(calls=many) for many in calls]
    found = windows(points, window)
    assert len(found) == max(0, len(calls) - window + 1)
    for place, one in enumerate(found):
        assert one == together(points[place : place + window])


@pytest.mark.parametrize(
    ("at", "until"),
    [
        ("2026-11-23T21:59", None),
        ("2026-11-23T22:00", "2026-11-24T06:00"),
        ("2026-11-24T03:00", "2026-11-24T06:00"),
        ("2026-11-24T06:00", None),
    ],
)
def test_mail_waits_for_the_end_of_quiet_hours(at: str, until: str | None) -> None:
    quiet = rule(quiet={"first": "22:00", "last": "06:00", "zone": "UTC"}, mail_to=["i.marsh@skerry.example"])
    moment = datetime.fromisoformat(at).replace(tzinfo=UTC)
    due = datetime.fromisoformat(until).replace(tzinfo=UTC) if until else moment
    assert mail_due(quiet, Event("raised", moment, 1.0)) == due


def test_quiet_hours_are_those_of_their_zone_also_when_clocks_change() -> None:
    quiet = QuietHours(first=time(22), last=time(6), zone="Europe/Oslo")
    assert quiet.until(datetime(2026, 10, 24, 22, tzinfo=UTC)) == datetime(2026, 10, 25, 5, tzinfo=UTC)
    assert quiet.until(datetime(2026, 7, 1, 22, tzinfo=UTC)) == datetime(2026, 7, 2, 4, tzinfo=UTC)
    lunch = QuietHours(first=time(12), last=time(13))
    assert lunch.until(START) is None
    assert lunch.until(START + timedelta(hours=4, minutes=5)) == START + timedelta(hours=5)


@given(st.sampled_from(sorted(MEASURES)), st.sampled_from(["value", "change"]), st.integers(0, 10**12))
def test_a_limit_is_read_as_it_is_written(name: str, compare: str, many: int) -> None:
    value = many / 100
    assert read_limit(written_limit(value, name, compare), name, compare) == pytest.approx(value, rel=1e-5)


@pytest.mark.parametrize(
    ("text", "name", "compare", "value"),
    [
        ("5 %", "failed share", "value", 0.05),
        ("300 ms", "p95", "value", 300_000),
        ("1.5 s", "p95", "value", 1_500_000),
        ("+50 %", "calls", "change", 0.5),
        ("-30 %", "calls", "change", -0.3),
        ("2 MB", "bytes", "value", 2_000_000),
    ],
)
def test_limits_are_typed_in_the_unit_of_their_measure(text: str, name: str, compare: str, value: float) -> None:
    assert read_limit(text, name, compare) == pytest.approx(value)


@pytest.mark.parametrize(("text", "name"), [("5", "p95"), ("5 ms", "calls"), ("much", "calls"), ("", "failed share")])
def test_what_is_no_limit_says_what_one_looks_like(text: str, name: str) -> None:
    with pytest.raises(ValueError, match="write it like"):
        read_limit(text, name, "value")


@pytest.mark.parametrize(
    ("changes", "words"),
    [
        ({"where": ["path contains /x"]}, "reads single calls"),
        ({"where": ["environment is test"]}, "take it out of the conditions"),
        ({"measure": "joy"}, "is not a measure"),
        ({"window": 0}, "greater than or equal to 1"),
        ({"compare": "change", "side": "below", "limit": -2}, "nothing falls by more than all of it"),
        ({"mail_to": ["nobody"]}, "@"),
        ({"limit": float("inf")}, "finite"),
    ],
)
def test_a_rule_that_cannot_be_says_why(changes: dict[str, object], words: str) -> None:
    with pytest.raises(ValidationError) as refused:
        rule(**changes)
    assert words in str(refused.value)
