"""Spans: how they are written, how pictures cut them, and which roll-ups answer for each moment of them."""

from datetime import UTC, datetime, timedelta
from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tamarack.core.traffic.rollup import GRAINS
from tamarack.core.traffic.span import SPANS, STEPS, cover, pictured, read_span, written

NOW = datetime(2026, 11, 23, 10, 37, 21, tzinfo=UTC)
_MINUTES = st.integers(0, 60 * 24 * 40).map(lambda many: datetime(2026, 10, 1, tzinfo=UTC) + timedelta(minutes=many))


@given(_MINUTES, st.integers(1, 60 * 24 * 20), st.sampled_from([None, *STEPS.values()]))
def test_each_moment_is_answered_by_exactly_one_roll_up(first: datetime, minutes: int, step: int | None) -> None:
    last = first + timedelta(minutes=minutes)
    pieces = cover(first, last, timedelta(seconds=step) if step else None)
    assert pieces[0].first == first
    assert pieces[-1].last == last
    for before, after in pairwise(pieces):
        assert before.last == after.first
    for piece in pieces:
        seconds = GRAINS[piece.grain]
        assert piece.first.timestamp() % seconds == 0 == piece.last.timestamp() % seconds
        if step:  # no row reaches over the border of two steps
            assert seconds == 60 or (step % seconds == 0 and (piece.first - first).total_seconds() % seconds == 0)


@given(_MINUTES, st.integers(1, 60 * 24 * 20))
def test_the_coarsest_roll_ups_are_taken(first: datetime, minutes: int) -> None:
    pieces = cover(first, first + timedelta(minutes=minutes))
    of = {grain: sum((p.last - p.first for p in pieces if p.grain == grain), timedelta()) for grain in GRAINS}
    for grain, coarser in pairwise(GRAINS):
        assert of[grain] < 2 * timedelta(seconds=GRAINS[coarser])


def test_a_span_that_is_not_made_of_whole_minutes_is_refused() -> None:
    with pytest.raises(ValueError, match="not made of whole minutes"):
        cover(NOW, NOW + timedelta(hours=1))


@pytest.mark.parametrize(
    ("text", "first", "last"),
    [
        ("hour", "2026-11-23T09:38Z", "2026-11-23T10:38Z"),
        ("week", "2026-11-16T11:00Z", "2026-11-23T11:00Z"),
        ("2026-11-20T14:00/2026-11-20T18:00", "2026-11-20T14:00Z", "2026-11-20T18:00Z"),
        ("2026-11-20T14:00:30+01:00/2026-11-20T18:00:30+01:00", "2026-11-20T13:00Z", "2026-11-20T17:01Z"),
    ],
)
def test_a_span_is_a_name_or_two_moments(text: str, first: str, last: str) -> None:
    assert written(*read_span(text, NOW)) == f"{first}/{last}"


@given(_MINUTES, st.integers(1, 10_000))
def test_two_moments_are_read_as_they_were_written(first: datetime, minutes: int) -> None:
    last = first + timedelta(minutes=minutes)
    assert read_span(written(first, last), NOW) == (first, last)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("yesterday", "'yesterday' is not a span; those are hour, 6 hours"),
        ("2026-11-20/2026-11-19", "put the earlier moment first"),
        ("2016-11-20/2026-11-19", "longer than three years"),
        ("a/b/c", "is not a span"),
    ],
)
def test_what_is_no_span_says_what_is(text: str, words: str) -> None:
    with pytest.raises(ValueError, match=words):
        read_span(text, NOW)


@pytest.mark.parametrize("name", SPANS)
def test_a_named_span_keeps_its_length_and_ends_with_the_running_point(name: str) -> None:
    first, last, step = pictured(name, NOW)
    assert last - first == SPANS[name]
    assert last - step < NOW <= last
    assert (last - first) / step <= 200


def test_points_of_an_hour_and_more_begin_with_whole_hours_or_days() -> None:
    first, last, step = pictured("2026-11-20T14:37/2026-11-21T18:12", NOW, "hour")
    assert (written(first, last), step) == ("2026-11-20T14:00Z/2026-11-21T19:00Z", timedelta(hours=1))
    first, last, _ = pictured("2026-11-20T14:37/2026-11-21T18:12", NOW, "day")
    assert written(first, last) == "2026-11-20T00:00Z/2026-11-22T00:00Z"
