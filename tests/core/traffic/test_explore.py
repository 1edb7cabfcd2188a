"""Explorations and conditions: they read and write as text, an address holds all of them, and slips are explained."""

from datetime import UTC, datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from tamarack.core.traffic.board import Board, NotABoard, read_board
from tamarack.core.traffic.explore import AGAINST, MEASURES, PICTURES, SPLITS, Exploration, measure
from tamarack.core.traffic.fields import CALL_FIELDS
from tamarack.core.traffic.span import SPANS
from tamarack.core.traffic.where import Where, of_status, read_where

_WORDS = st.text("abc-/ 0123,\"'é", min_size=1, max_size=10).map(str.strip).filter(lambda v: v not in ("", "none"))
_TEXT_FIELDS = sorted(
    name for name, field in CALL_FIELDS.items() if field.kind == "text" and name not in ("outcome", "class")
)
_AMOUNTS = sorted(name for name, field in CALL_FIELDS.items() if field.kind in ("time", "size", "number"))
_NUMBERS = st.integers(0, 10**9).map(str)

WHERES = st.one_of(
    st.builds(Where, field=st.sampled_from(_TEXT_FIELDS), how=st.sampled_from(["is", "is not"]),
              values=st.lists(_WORDS | st.just(""), min_size=1, max_size=3).map(tuple)),
    st.builds(Where, field=st.sampled_from(_TEXT_FIELDS), how=st.sampled_from(["starts with", "contains"]),
              values=st.tuples(_WORDS)),
    st.builds(Where, field=st.sampled_from(_AMOUNTS), how=st.just("is"), values=st.lists(_NUMBERS, min_size=1, max_size=3).map(tuple)),
    st.builds(lambda field, ends: Where(field=field, how="from", values=tuple(str(end) for end in sorted(ends))),
              st.sampled_from(_AMOUNTS), st.tuples(st.integers(0, 10**9), st.integers(0, 10**9))),
)  # fmt: skip


@given(WHERES)
def test_a_condition_is_read_as_it_is_written(where: Where) -> None:
    assert read_where(str(where)) == where


@given(
    st.sampled_from([*MEASURES, "p97.3", "backend p12"]),
    st.lists(st.sampled_from(sorted(SPLITS)), max_size=2, unique=True),
    st.lists(WHERES, max_size=3),
    st.sampled_from([*SPANS, "2026-11-20T14:00Z/2026-11-20T18:00Z"]),
    st.sampled_from(["", *AGAINST]),
    st.sampled_from(PICTURES),
    st.sampled_from(["", "hour"]),
)
def test_an_address_holds_all_of_a_question(
    name: str, split: list[str], where: list[Where], span: str, against: str, picture: str, step: str
) -> None:
    asked = Exploration(measure=name, split=tuple(split), where=tuple(where), span=span, against=against,
                        picture=picture, step=step)  # type: ignore[arg-type]  # fmt: skip
    assert Exploration.model_validate(asked.query()) == asked
    assert Exploration.model_validate_json(asked.model_dump_json()) == asked


@pytest.mark.parametrize(
    ("changes", "words"),
    [
        ({"measure": "joy"}, "'joy' is not a measure; those are calls"),
        ({"measure": "p0"}, "'p0' is not a measure"),
        ({"split": ("colour",)}, "'colour' is nothing to split by"),
        ({"split": ("took",)}, "'took' is nothing to split by"),
        ({"where": ("colour is red",)}, "'colour' is not a field of calls; those are id, environment"),
        ({"where": ("sailings",)}, "is not a condition; write it like"),
        ({"where": ("status is many",)}, "'many' is not a value for status; write it like 429"),
        ({"where": ("took from 5",)}, "write it like 200 ms or 1.5 s"),
        ({"where": ("took from 5 s to 1 s",)}, "put the smaller value first"),
        ({"where": ("api from a to b",)}, "a range is for numbers"),
        ({"where": ("status contains 4",)}, "status is a number"),
        ({"where": ("outcome is sad",)}, "'sad' is no outcome; those are answered, refused, failed"),
        ({"span": "ages"}, "'ages' is not a span"),
        ({"step": "blink"}, "'blink' is no step; those are minute"),
        ({"step": "minute", "span": "month"}, "makes more than 1,500 of this span"),
        ({"against": "tomorrow"}, "'tomorrow' cannot be compared with"),
    ],
)
def test_a_question_that_cannot_be_asked_says_what_can(changes: dict[str, object], words: str) -> None:
    with pytest.raises(ValidationError) as refused:
        Exploration.model_validate(changes)
    assert words in str(refused.value)


def test_amounts_are_read_in_their_units() -> None:
    assert read_where("took from 1.5 s").values == ("1500000", "")
    assert read_where("answer-size is 2 MB").values == ("2000000",)
    assert str(read_where("took from 1500 ms to 3000 ms")) == "took from 1500 ms to 3 s"
    assert str(of_status("4xx")) == "class is 4xx"
    assert str(of_status("401")) == "status is 401"
    assert of_status("") is None


def test_any_percentile_is_a_measure() -> None:
    assert measure("p97.3").title == "97.3 % answered within"
    assert measure("backend p50").histogram == "backend_histogram"


def test_a_mark_narrows_the_question_and_is_undone_by_the_one_before() -> None:
    asked = Exploration(split=("api", "reason"), where=("api is sailings, fares", "status from 400 to 499"))  # type: ignore[arg-type]
    narrowed = asked.narrowed({"api": "fares", "reason": ""})
    assert [str(one) for one in narrowed.where] == ["status from 400 to 499", "api is fares", "reason is none"]
    assert narrowed.split == ()
    closer = narrowed.within(datetime(2026, 11, 20, 8, tzinfo=UTC), datetime(2026, 11, 20, 9, tzinfo=UTC))
    assert closer.span == "2026-11-20T08:00Z/2026-11-20T09:00Z"


def test_only_what_roll_ups_know_is_answered_by_them() -> None:
    assert Exploration(split=("api",), where=("status is 429",)).rolled  # type: ignore[arg-type]
    assert not Exploration(split=("path",)).rolled
    assert not Exploration(where=("took from 1 s",)).rolled  # type: ignore[arg-type]


def test_a_board_is_read_as_it_is_written() -> None:
    tiles = [
        {"title": "Refused", "question": {"measure": "refused", "where": ["reason is over-rate"]}, "width": "full"}
    ]
    board = Board.model_validate({"name": "watch", "title": "Watch", "span": "week", "tiles": tiles})
    assert read_board(board.written()) == board
    assert '"reason is over-rate"' in board.written()


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("{}", "name: is missing"),
        ("[]", "object"),
        ("not JSON", "JSON"),
        ('{"name": "A B", "title": "A"}', "lower-case letters"),
        (
            '{"name": "a", "title": "A", "tiles": [{"title": "T", "question": {"where": ["x"]}}]}',
            "tiles.0.question.where.0: 'x'",
        ),
        ('{"name": "a", "title": "A", "span": "ages"}', "span"),
    ],
)
def test_a_file_that_is_no_board_says_what_is_wrong_and_where(text: str, words: str) -> None:
    with pytest.raises(NotABoard) as refused:
        read_board(text)
    assert words in str(refused.value)
