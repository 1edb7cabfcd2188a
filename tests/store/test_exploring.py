"""Explorations against the plain truth: what roll-ups answer is what counting the calls by hand gives."""

from collections import Counter
from datetime import UTC, datetime, timedelta

import psycopg
import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError
from sqlmodel import Session

from core.test_traffic import record
from tamarack.core.traffic.explore import FIELDS, MEASURES, Exploration, Where
from tamarack.core.traffic.record import Record
from tamarack.settings import Settings
from tamarack.store.exploring import answer
from tamarack.store.recording import take_in
from tamarack.store.watching import Span

START = datetime(2026, 11, 20, 8, 0, tzinfo=UTC)
SPAN = Span(START, START + timedelta(hours=2))
STEP = timedelta(minutes=10)
APIS = ("sailings", "fares", "berths")


def calls() -> list[Record]:
    """Six hundred calls over two hours, of three APIs and twelve applications, some refused, some failed."""
    made = []
    for number in range(600):
        status, reason = [(200, ""), (429, "over-plan"), (200, ""), (502, "backend-away")][number % 4]
        made.append(
            record(
                at=int((START + timedelta(seconds=12 * number)).timestamp() * 1_000_000),
                total_us=1_000 + 37 * number,
                id=f"{number:024x}",
                environment="production",
                api=APIS[number % 3],
                version="1",
                operation=f"get /{APIS[number % 3]}",
                application=f"app-{number % 12:02}",
                status=status,
                reason=reason,
                response_bytes=number,
            )
        )
    return made


@pytest.fixture
def asked(settings: Settings, session: Session) -> Session:
    """The calls taken in."""
    with psycopg.connect(settings.database, autocommit=True) as connection:
        take_in(connection, "b1", "n", calls())
    return session


def test_counts_of_every_group_and_moment_are_exact_with_the_rest_as_others(asked: Session) -> None:
    exploration = Exploration(split=("application",))
    times, groups = answer(asked, exploration, SPAN, STEP)
    assert len(times) == 12
    assert [group.key for group in groups][-1] is None
    assert len(groups) == 9
    by_application = Counter(one.application for one in calls())
    for group in groups[:-1]:
        assert group.key is not None
        assert group.total.calls == by_application[group.key[0]] == sum(point.calls for point in group.points)
    assert sum(group.total.calls for group in groups) == 600


@pytest.mark.parametrize("measure", ["p50", "p95", "p99"])
def test_percentiles_are_within_one_percent_of_exact_over_any_split(asked: Session, measure: str) -> None:
    _, groups = answer(asked, Exploration(measure=measure, split=("api",)), SPAN, STEP)
    for group in groups:
        assert group.key is not None
        times = sorted(one.total_us for one in calls() if one.api == group.key[0])
        exact = times[-(-int(measure[1:]) * len(times) // 100) - 1]
        assert MEASURES[measure].of(group.total, 1) == pytest.approx(exact, rel=0.01)


@pytest.mark.parametrize(
    ("where", "many"),
    [
        (("api is sailings",), 200),
        (("api is sailings, fares",), 400),
        (("api is not sailings",), 400),
        (("status from 400 to 499",), 150),
        (("status is 502", "api is fares"), 50),
        (("operation starts with get /s",), 200),
        (("reason is none",), 300),
        (("reason is not none",), 300),
        (("application is app-00' OR 1=1 --",), 0),
    ],
)
def test_conditions_hold_all_at_once(asked: Session, where: tuple[str, ...], many: int) -> None:
    _, groups = answer(asked, Exploration(where=where), SPAN, STEP)  # type: ignore[arg-type]
    assert sum(group.total.calls for group in groups) == many


def test_the_measures_are_those_of_the_calls(asked: Session) -> None:
    _, (group,) = answer(asked, Exploration(where=("api is sailings",)), SPAN, STEP)  # type: ignore[arg-type]
    mine = [one for one in calls() if one.api == "sailings"]
    values = {name: MEASURES[name].of(group.total, 7200) for name in MEASURES if not MEASURES[name].needs_histogram}
    assert values["calls"] == 200
    assert values["rate"] == pytest.approx(200 / 7200)
    assert values["refused"] == sum(1 for one in mine if one.status == 429)
    assert values["failed"] == sum(1 for one in mine if one.status == 502)
    assert values["error share"] == pytest.approx((50 + 50) / 200)
    assert values["mean"] == pytest.approx(sum(one.total_us for one in mine) / 200)
    assert values["bytes"] == sum(one.response_bytes for one in mine)


def test_two_fields_split_by_their_pairs(asked: Session) -> None:
    _, groups = answer(asked, Exploration(split=("api", "status")), SPAN, STEP)
    pairs = Counter((one.api, str(one.status)) for one in calls())
    assert (len(pairs), len(groups)) == (9, 9)  # eight pairs, and the ninth as others
    assert groups[-1].key is None
    for group in groups[:-1]:
        assert group.key is not None
        assert group.total.calls == pairs[group.key[0], group.key[1]]


@pytest.mark.parametrize(
    ("changes", "words"),
    [
        ({"measure": "joy"}, "'joy' is no measure; those are calls"),
        ({"split": ("colour",)}, "'colour' is not a field of calls"),
        ({"where": ("colour is red",)}, "'colour' is not a field of calls"),
        ({"where": ("sailings",)}, "says no condition; write it like"),
        ({"where": ("status is many",)}, "a status is a number"),
        ({"where": ("api from a to b",)}, "a range is for the status"),
        ({"where": ("status from 4 or 5",)}, "a range is for the status"),
    ],
)
def test_a_question_that_cannot_be_asked_says_what_can(changes: dict[str, object], words: str) -> None:
    with pytest.raises(ValidationError) as refused:
        Exploration.model_validate(changes)
    assert words in str(refused.value)


_VALUES = st.text("abc-/ 0123", min_size=1, max_size=8).map(str.strip).filter(lambda v: v not in ("", "none"))


@given(
    st.sampled_from(sorted(MEASURES)),
    st.lists(st.sampled_from(sorted(FIELDS)), max_size=2, unique=True),
    st.lists(st.builds(Where, field=st.sampled_from(["api", "plan"]), how=st.sampled_from(["is", "is not"]),
                       values=st.lists(_VALUES, min_size=1, max_size=3).map(tuple)), max_size=3),
)  # fmt: skip
def test_an_address_holds_all_of_a_question(measure: str, split: list[str], where: list[Where]) -> None:
    asked = Exploration(measure=measure, split=tuple(split), where=tuple(where))
    assert Exploration.model_validate(asked.query()) == asked


def test_a_mark_narrows_the_question_and_is_undone_by_the_one_before() -> None:
    asked = Exploration(split=("api", "reason"), where=("api is sailings, fares", "status from 400 to 499"))  # type: ignore[arg-type]
    narrowed = asked.narrowed({"api": "fares", "reason": ""})
    assert [str(one) for one in narrowed.where] == ["status from 400 to 499", "api is fares", "reason is none"]
    assert narrowed.split == ()
    assert Exploration.model_validate(narrowed.query()) == narrowed
