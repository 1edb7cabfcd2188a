"""Answers against the plain truth: what roll-ups and single calls answer is what counting the calls by hand gives."""

import random
from collections import Counter
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from math import ceil

import psycopg
import pytest
from sqlmodel import Session

from core.traffic.test_traffic import record
from tamarack.core.traffic.explore import MEASURES, Exploration, measure
from tamarack.core.traffic.fields import outcome_of
from tamarack.core.traffic.histogram import RELATIVE_ERROR
from tamarack.core.traffic.record import Record
from tamarack.core.traffic.where import read_where
from tamarack.settings import Settings
from tamarack.store.traffic.explorations import explore, values_of
from tamarack.store.traffic.partitions import drop_partitions
from tamarack.store.traffic.reading import Question, answer
from tamarack.store.traffic.recording import Batch, KeyIds, rebuild_rollups, take_in

START = datetime(2026, 11, 20, 8, 0, tzinfo=UTC)
END = START + timedelta(hours=30)
APIS = ("sailings", "fares", "berths")
NOW = END


def made() -> list[Record]:
    """Two thousand calls over thirty hours, of three APIs and twelve applications, some refused, some failed."""
    draw, calls = random.Random(3), []
    for number in range(2000):
        status, reason = [(200, ""), (429, "over-plan"), (200, ""), (502, "backend-away"), (301, "")][number % 5]
        total = draw.randint(300, 2_000_000)
        asked = reason != "over-plan"
        calls.append(
            record(
                at=int(START.timestamp() * 1_000_000) + draw.randrange(30 * 3_600_000_000),
                total_us=total,
                backend_us=int(total * 0.8) if asked else 0,
                held_us=total // 10 if number % 11 == 0 else 0,
                id=f"{number:024x}",
                environment="production",
                api=APIS[number % 3],
                version="1",
                operation=f"get /{APIS[number % 3]}",
                path=f"/{APIS[number % 3]}/{number % 7}",
                organization="tern-trips" if number % 12 < 9 else "kelp-crate",
                application=f"app-{number % 12:02}",
                status=status,
                reason=reason,
                target="127.0.0.1:1" if asked else "",
                cache=["hit", "miss", ""][number % 7 % 3],
                request_bytes=number % 50,
                response_bytes=number,
                prompt_tokens=number % 4,
                completion_tokens=number % 6,
                cached_tokens=number % 3,
                first_us=number % 5 * 1000,
                saved_tokens=number % 5 * 7,
                saved_us=number % 3,
                model=["", "notices", "notices-long"][number % 3],
            )
        )
    return calls


CALLS = made()


@pytest.fixture(scope="module")
def database(cluster) -> Iterator[str]:  # type: ignore[no-untyped-def]
    """The calls taken in, late and in pieces, some of them twice."""
    cluster.drop_database("answers")
    cluster.make_database("answers", "template_tamarack")
    url: str = cluster.url("answers")
    with psycopg.connect(url, autocommit=True) as connection:
        ids = KeyIds()
        pieces = [Batch(f"b{place}", "n", CALLS[place::7]) for place in range(7)]
        assert sum(take_in(connection, [piece], ids) for piece in (*pieces[3:], pieces[4])) == sum(
            len(piece.records) for piece in pieces[3:]
        )
        assert take_in(connection, pieces) == sum(len(piece.records) for piece in pieces[:3])
    yield url
    cluster.drop_database("answers")


@pytest.fixture
def asked(database: str) -> Iterator[Session]:
    from tamarack.store.engine import make_engine

    engine = make_engine(database)
    with Session(engine) as opened:
        yield opened
    engine.dispose()


def within(first: datetime, last: datetime, *where: str) -> list[Record]:
    """The calls of a span for which some conditions hold, by hand."""
    found = []
    for one in CALLS:
        at = datetime.fromtimestamp(one.at / 1_000_000, UTC)
        if first <= at < last and all(holds(one, condition) for condition in where):
            found.append(one)
    return found


def holds(call: Record, condition: str) -> bool:
    where = read_where(condition)
    value = {
        "outcome": outcome_of(call.status, call.reason),
        "class": f"{call.status // 100}xx",
        "took": str(call.total_us),
        "end-user": call.end_user,
    }.get(where.field) or str(getattr(call, where.field, ""))
    match where.how:
        case "is":
            return value in where.values
        case "is not":
            return value not in where.values
        case "starts with":
            return value.startswith(where.values[0])
        case "contains":
            return where.values[0] in value
        case _:
            return int(where.values[0]) <= int(value) <= int(where.values[1] or value)


SPANS = [
    (START, END),
    (START + timedelta(minutes=37), END - timedelta(minutes=11)),
    (START + timedelta(hours=3), START + timedelta(hours=5)),
    (START.replace(hour=0), START.replace(hour=0) + timedelta(days=2)),
    (START + timedelta(minutes=1), START + timedelta(minutes=2)),
]
WHERES: list[tuple[str, ...]] = [
    (),
    ("api is sailings",),
    ("api is sailings, fares", "status is not 429"),
    ("status from 400 to 499",),
    ("outcome is failed", "api is fares"),
    ("operation starts with get /s",),
    ("class is 3xx",),
    ("reason is none",),
    ("application is app-00' OR 1=1 --",),
    # from here on single calls are read
    ("path contains ings/3",),
    ("took from 1 s", "api is berths"),
    ("took from 100 ms to 200 ms",),
]


@pytest.mark.parametrize("where", WHERES)
def test_counts_and_sums_are_exact_over_any_span(asked: Session, where: tuple[str, ...]) -> None:
    for first, last in SPANS:
        conditions = tuple(read_where(one) for one in where)
        (group,) = answer(asked, Question(first, last, conditions, callers=True)).groups
        mine = within(first, last, *where)
        total = group.total
        assert total.calls == len(mine)
        assert total.refused == sum(one.status == 429 for one in mine)
        assert total.failed == sum(one.status == 502 for one in mine)
        assert total.classes == tuple(sum(one.status // 100 == n for one in mine) for n in (2, 3, 4, 5))
        assert (total.hits, total.misses) == tuple(sum(one.cache == n for one in mine) for n in ("hit", "miss"))
        assert total.asked == sum(one.target != "" for one in mine)
        assert total.held == sum(one.held_us > 0 for one in mine)
        for name in (
            "total_us",
            "backend_us",
            "held_us",
            "request_bytes",
            "response_bytes",
            "prompt_tokens",
            "first_us",
            "saved_tokens",
            "saved_us",
        ):
            assert getattr(total, name) == (sum(getattr(one, name) for one in mine) if mine else 0)
        assert total.min_us == min((one.total_us for one in mine), default=None)
        assert total.max_us == max((one.total_us for one in mine), default=None)
        assert total.callers == len({(one.organization, one.application) for one in mine})


_TIMES = {
    "": lambda one: one.total_us,
    "backend ": lambda one: one.backend_us if one.target else None,
    "gateway ": lambda one: one.total_us - one.backend_us - one.held_us,
}


@pytest.mark.parametrize("kind", _TIMES)
@pytest.mark.parametrize("where", [(), ("class is 5xx",), ("path contains /3",)])
@pytest.mark.parametrize("part", ["50", "95", "99.9"])
def test_percentiles_are_within_one_percent_of_exact(
    asked: Session, kind: str, where: tuple[str, ...], part: str
) -> None:
    wanted = measure(f"{kind}p{part}")
    conditions = tuple(read_where(one) for one in where)
    assert wanted.histogram is not None
    question = Question(*SPANS[1], conditions, ("api",), step=timedelta(hours=1), histograms=(wanted.histogram,))
    found = answer(asked, question)
    for group in found.groups:
        assert group.key is not None
        mine = within(*SPANS[1], *where, f"api is {group.key[0]}")
        stretches = [(group.total, mine)] + [
            (point, [one for one in mine if at <= datetime.fromtimestamp(one.at / 1e6, UTC) < at + timedelta(hours=1)])
            for at, point in zip(found.times, group.points, strict=True)
        ]
        for totals, calls in stretches:
            times = sorted(time for one in calls if (time := _TIMES[kind](one)) is not None)
            value = wanted.of(totals, 1)
            if not times:
                assert value is None
                continue
            exact = times[max(1, ceil(float(part) / 100 * len(times))) - 1]
            assert value is not None
            assert abs(value - exact) <= exact * RELATIVE_ERROR * 1.0001 + 1


@pytest.mark.parametrize("step", [timedelta(minutes=10), timedelta(hours=1), timedelta(hours=6), timedelta(days=1)])
@pytest.mark.parametrize("split", [(), ("application",), ("api", "status"), ("outcome",), ("path",), ("class", "path")])
def test_every_group_and_moment_counts_its_calls_with_the_rest_as_others(
    asked: Session, step: timedelta, split: tuple[str, ...]
) -> None:
    first = START.replace(hour=0)
    found = answer(asked, Question(first, first + timedelta(days=2), split=split, step=step))
    assert len(found.times) == timedelta(days=2) // step

    def key(one: Record) -> tuple[str, ...]:
        derived = {"outcome": outcome_of(one.status, one.reason), "class": f"{one.status // 100}xx"}
        return tuple(derived.get(name) or str(getattr(one, name)) for name in split)

    many = Counter((key(one), int((one.at / 1e6 - first.timestamp()) // step.total_seconds())) for one in CALLS)
    named = [group.key for group in found.groups if group.key is not None]
    assert len(named) == min(8, len({key for key, _ in many}))
    for group in found.groups:
        for place, point in enumerate(group.points):
            if group.key is not None:
                assert point.calls == many[group.key, place]
            else:
                assert point.calls == sum(n for (key, at), n in many.items() if at == place and key not in named)
    assert sum(group.total.calls for group in found.groups) == 2000
    sizes = [group.total.calls for group in found.groups if group.key is not None]
    assert sizes == sorted(sizes, reverse=True)


def test_every_measure_says_something_of_every_picture(asked: Session) -> None:
    for name in MEASURES:
        question = Exploration(measure=name, split=("api",), span="2026-11-20T08:00Z/2026-11-21T14:00Z")
        explored = explore(asked, question, NOW)
        assert len(explored.groups) == 3
        for group in explored.groups:
            assert MEASURES[name].of(group.total, explored.seconds) is not None


def test_the_span_before_is_told_for_the_same_groups(asked: Session) -> None:
    question = Exploration(split=("application",), span="2026-11-20T20:00Z/2026-11-21T08:00Z", against="before")
    explored = explore(asked, question, NOW)
    assert explored.shift == timedelta(hours=12)
    assert explored.earlier is not None
    for group in explored.groups:
        if group.key is not None:
            before = within(START, START + timedelta(hours=12), f"application is {group.key[0]}")
            assert explored.earlier[group.key].total.calls == len(before)


def test_different_callers_are_counted_over_the_whole_span_not_added_up(asked: Session) -> None:
    question = Exploration(measure="callers", split=("api",), span="2026-11-20T08:00Z/2026-11-21T14:00Z")
    for group in explore(asked, question, NOW).groups:
        assert group.total.callers == 4
        assert all((point.callers or 0) <= 4 for point in group.points)


def test_roll_ups_made_anew_answer_the_same(database: str, asked: Session) -> None:
    question = Question(*SPANS[1], split=("application",), step=timedelta(minutes=10), histograms=("histogram",))
    before = answer(asked, question).groups
    asked.rollback()
    with psycopg.connect(database, autocommit=True) as connection:
        assert rebuild_rollups(connection, START.replace(hour=0), START.replace(hour=0) + timedelta(days=2)) == 2000
    assert answer(asked, question).groups == before


def test_what_is_kept_only_by_the_hour_is_answered_by_the_hour(database: str, settings: Settings) -> None:
    with psycopg.connect(settings.database, autocommit=True) as connection:
        take_in(connection, [Batch("b", "n", CALLS)])
        drop_partitions(connection, "rollup_minute", END.date())
        connection.execute("DELETE FROM rollup_ten_minutes WHERE start < %s", (END.replace(hour=0),))
    from tamarack.store.engine import make_engine

    engine = make_engine(settings.database)
    with Session(engine) as session:
        first, last = START + timedelta(minutes=37), START + timedelta(hours=3, minutes=5)
        found = answer(session, Question(first, last, step=timedelta(minutes=10)))
        assert (found.question.first, found.question.last) == (START, START + timedelta(hours=4))
        assert found.question.step == timedelta(hours=1)
        assert found.groups[0].total.calls == len(within(START, START + timedelta(hours=4)))
    engine.dispose()


def test_values_are_suggested_from_the_traffic(asked: Session) -> None:
    assert values_of(asked, "api", "") == ["berths", "fares", "sailings"]
    assert values_of(asked, "api", "AIL") == ["sailings"]
    assert values_of(asked, "status", "5") == ["502"]
    assert values_of(asked, "outcome", "") == ["answered", "refused", "failed"]
    assert values_of(asked, "operation", "'; DROP TABLE call") == []
