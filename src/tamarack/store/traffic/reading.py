"""Reading traffic: groups of calls over time with their totals, from the roll-ups or from single calls.

This is the one place that asks the database for totals; every page, board, alert and statement goes through it.
"""

# ruff: noqa: S608 - what is put together are names of this module; what people typed is bound

from abc import ABC, abstractmethod
from collections.abc import Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, timedelta
from typing import Any, Literal

from psycopg.errors import QueryCanceled
from sqlalchemy import text
from sqlalchemy.exc import OperationalError
from sqlmodel import Session

from tamarack.core.traffic.explore import MOST_GROUPS
from tamarack.core.traffic.fields import CALL_FIELDS
from tamarack.core.traffic.histogram import PER_LOG, Histogram
from tamarack.core.traffic.rollup import GRAINS
from tamarack.core.traffic.span import Piece, cover, floored, widened
from tamarack.core.traffic.totals import SUMS, Totals
from tamarack.core.traffic.where import Where
from tamarack.store.engine import fetch_binary
from tamarack.store.errors import StoreError

HISTOGRAMS = ("histogram", "backend_histogram", "gateway_histogram")
ALL_SUMS = (*SUMS, "min_us", "max_us")
Order = Literal["calls", "refused", "failed"]
SURELY_KEPT = timedelta(days=1)
"""What began since then is kept by the minute, whatever the settings."""
RAW_SECONDS = 20
"""How long a question of single calls may take, in seconds."""

_OUTCOME = "CASE WHEN status >= 500 THEN 'failed' WHEN reason <> '' THEN 'refused' ELSE 'answered' END"
"""The rule of `core.traffic.fields.outcome_of`, for the database."""
_DERIVED = {"outcome": _OUTCOME, "class": "(status / 100)::text || 'xx'"}

_OF_KEYS = {
    "refused": "reason <> '' AND status < 500",
    "failed": "status >= 500",
    "hits": "cache IN ('hit', 'stale')",
    "misses": "cache IN ('miss', 'revalidated')",
    "of_2xx": "status / 100 = 2",
    "of_3xx": "status / 100 = 3",
    "of_4xx": "status / 100 = 4",
    "of_5xx": "status / 100 = 5",
}
"""Totals that follow from what calls have in common: the calls for which something holds."""
_RAW = {
    "asked": "(target <> '')::int",
    "held": "(held_us > 0)::int",
    "marked": "(mark <> '')::int",
    "firsts": "(first_us > 0)::int",
    "telling_us": "CASE WHEN completion_tokens > 0 THEN backend_us ELSE 0 END",
}
"""What a single call adds to a total that is not a column of its own."""
_RAW_TIMES = {
    "histogram": ("total_us", ""),
    "backend_histogram": ("backend_us", "AND target <> ''"),
    "gateway_histogram": ("total_us - backend_us - held_us", ""),
}


class TookTooLong(StoreError):
    """A question that reads single calls was given up."""


@contextmanager
def bounded(session: Session) -> Iterator[None]:
    """For what reads single calls: given up after a time. Raises TookTooLong, with the session rolled back."""
    session.connection().execute(text(f"SET LOCAL statement_timeout = '{RAW_SECONDS}s'"))
    try:
        yield
    except (QueryCanceled, OperationalError) as error:
        if not isinstance(getattr(error, "orig", error), QueryCanceled):
            raise
        session.rollback()
        raise TookTooLong(
            f"No answer within {RAW_SECONDS} s, for single calls are read. Ask of a shorter span, or split and filter"
            " by fields of the roll-ups alone."
        ) from error


@dataclass(slots=True)
class Group:
    """The calls with some values of the fields that are split by (None: all others together), over time."""

    key: tuple[str, ...] | None
    total: Totals = field(default_factory=Totals)
    points: list[Totals] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class Question:
    """What is asked of the traffic between two moments.

    `step` is how long the points are, None for totals alone. `most` groups of the split are told by themselves, those
    with the most calls (or refused or failed ones, by `order`); the others together. Histograms and the number of
    different callers cost more, and are read only where they are asked for.
    """

    first: datetime
    last: datetime
    where: Sequence[Where] = ()
    split: Sequence[str] = ()
    step: timedelta | None = None
    most: int = MOST_GROUPS
    order: Order = "calls"
    histograms: Collection[str] = ()
    sums: Collection[str] = ALL_SUMS
    """The totals that are read; the others are left at nothing. Calls are always counted."""
    callers: bool = False
    keys: Sequence[tuple[str, ...]] | None = None
    """The groups to tell, where they are known already."""
    others: bool = True
    """Whether those of other groups are told together."""
    finest: str = "minute"
    """The finest roll-ups that are still kept of it; `answer` sees to it."""

    @property
    def rolled(self) -> bool:
        """Whether roll-ups answer it."""
        return all(one.rolled for one in self.where) and all(CALL_FIELDS[name].rolled for name in self.split)

    @property
    def times(self) -> list[datetime]:
        """When each point begins."""
        if self.step is None:
            return []
        count = -((self.first - self.last) // self.step)
        return [self.first + place * self.step for place in range(count)]


@dataclass(frozen=True, slots=True)
class Answer:
    """What was asked (of a wider span, where finer roll-ups were dropped), when its points begin, and the groups."""

    question: Question
    times: list[datetime]
    groups: list[Group]


def finest_kept(session: Session, first: datetime) -> str:
    """The finest roll-ups that hold all that is kept from a moment on: those that reach back to it, or beyond which
    nothing was ever recorded."""
    listed = ", ".join(f"(SELECT min(start) FROM rollup_{grain})" for grain in GRAINS)
    begins = dict(zip(GRAINS, session.connection().execute(text(f"SELECT {listed}")).one(), strict=True))
    for grain, begun in begins.items():
        if begun is None:
            return grain
        coarser = [(GRAINS[one], at) for one, at in begins.items() if GRAINS[one] > GRAINS[grain] and at is not None]
        if first >= begun or all(at >= floored(begun, seconds) for seconds, at in coarser):
            return grain
    return "day"


def within_reach(session: Session, question: Question) -> Question:
    """The question of a span that is kept: widened where only coarser roll-ups are left of it."""
    if question.first > datetime.now(UTC) - SURELY_KEPT or question.finest != "minute":
        return question
    finest = finest_kept(session, question.first)
    if finest == "minute":
        return question
    first, last = widened(question.first, question.last, finest)
    step = question.step and max(question.step, timedelta(seconds=GRAINS[finest]))
    return replace(question, first=first, last=last, step=step, finest=finest)


def answer(session: Session, question: Question) -> Answer:
    """What is asked: the groups, the largest first; others together stand last, where there are any.

    Raises TookTooLong of a question that roll-ups do not answer.
    """
    if question.rolled:
        question = within_reach(session, question)
        return _answer(session, question, _Rolled(question))
    with bounded(session):
        return _answer(session, question, _Raw(question))


def _answer(session: Session, question: Question, source: "_Source") -> Answer:
    # Groups are few and rows are many, which the planner takes for the other way round: it would sort them all.
    session.connection().execute(text("SET LOCAL enable_sort = off"))
    keys = list(question.keys) if question.keys is not None else _keys(session, question, source)
    times = question.times
    groups = [_empty(key, question) for key in keys]
    others = _empty(None, question)
    which = source.number(question.split, keys)
    place = f"date_bin(CAST(:step AS interval), {source.moment}, :first)" if question.step is not None else "NULL"
    where = "" if question.others or not question.split else f" AND {which} >= 0"
    for sums, more in source.questions(question):
        query = f"SELECT {which} AS which, {place} AS moment, {sums} FROM {source.rows}{where} GROUP BY 1, 2{more}"
        for row in fetch_binary(session, query, source.values):
            found = source.read(row)
            group = groups[row.which] if row.which >= 0 else others
            if question.step is not None:
                at = (row.moment - question.first) // question.step
                if not 0 <= at < len(times):
                    continue
                callers = found.callers
                group.points[at].merge(found)
                group.points[at].callers = callers
            group.total.merge(found)
            if question.step is None:
                group.total.callers = found.callers
    if question.callers and question.step is not None:
        _tell_callers(session, question, source, which, groups, others)
    session.connection().execute(text("SET LOCAL enable_sort = on"))
    told = [*groups, others] if others.total.calls and question.split else groups
    return Answer(question, times, told)


def _empty(key: tuple[str, ...] | None, question: Question) -> Group:
    callers = 0 if question.callers else None
    return Group(key, Totals(callers=callers), [Totals(callers=callers) for _ in question.times])


def _tell_callers(
    session: Session, question: Question, source: "_Source", which: str, groups: list[Group], others: Group
) -> None:
    """The number of different callers of each group over the whole span, which is not the sum of its points."""
    query = f"SELECT {which} AS which, {source.callers} AS callers FROM {source.whole} GROUP BY 1"
    for row in session.connection().execute(text(query), source.values):
        (groups[row.which] if row.which >= 0 else others).total.callers = row.callers


def _keys(session: Session, question: Question, source: "_Source") -> list[tuple[str, ...]]:
    """The values of the split's fields with the most calls; one empty key where nothing is split."""
    if not question.split:
        return [()]
    columns = ", ".join(f"{source.column(name)} AS k{place}" for place, name in enumerate(question.split))
    names = ", ".join(f"k{place}" for place in range(len(question.split)))
    query = (
        f"SELECT {columns}, {source.count(question.order)} AS many FROM {source.whole}"
        f" GROUP BY {names} ORDER BY many DESC, {names} LIMIT {int(question.most)}"
    )
    rows = session.connection().execute(text(query), source.values)
    return [tuple(row)[:-1] for row in rows if row.many or question.order == "calls"]


def condition(one: Where, column: str, name: str) -> tuple[str, dict[str, Any]]:
    """A condition as SQL and its values; what people typed is always a value."""
    values: dict[str, Any]
    match one.how:
        case "is" | "is not":
            values = {name: [int(value) for value in one.values] if one.is_number else list(one.values)}
            cast = "bigint[]" if one.is_number else "text[]"
            found = f"{column} = ANY(CAST(:{name} AS {cast}))"
            return (found if one.how == "is" else f"NOT ({found})"), values
        case "starts with":
            return f"starts_with({column}, :{name})", {name: one.values[0]}
        case "contains":
            return f"strpos({column}, :{name}) > 0", {name: one.values[0]}
        case "from":
            parts, values = [f"{column} >= :{name}a"], {f"{name}a": int(one.values[0])}
            if one.values[1]:
                parts.append(f"{column} <= :{name}b")
                values[f"{name}b"] = int(one.values[1])
            return " AND ".join(parts), values


def conditions(where: Sequence[Where], columns: Mapping[str, str]) -> tuple[list[str], dict[str, Any]]:
    """Conditions as SQL and their values; `columns` maps a field's name to what it is in the query."""
    parts: list[str] = []
    values: dict[str, Any] = {}
    for place, one in enumerate(where):
        said, more = condition(one, columns[one.field], f"w{place}")
        parts.append(said)
        values |= more
    return parts, values


def raw_columns() -> dict[str, str]:
    """What each field is in the table of calls."""
    return {name: one.column or _DERIVED[name] for name, one in CALL_FIELDS.items()}


def _as_text(column: str, name: str) -> str:
    return f"{column}::text" if CALL_FIELDS[name].kind != "text" else column


class _Source(ABC):
    """Where totals are read from. `rows` is a FROM clause with its conditions, `moment` a row's time."""

    moment: str
    rows: str
    whole: str
    """The same rows, or coarser ones, where it does not matter when in the span a call was."""
    callers: str
    values: dict[str, Any]

    @abstractmethod
    def column(self, name: str) -> str:
        """A field of the split, as text."""

    @abstractmethod
    def count(self, order: Order) -> str:
        """What groups are put in order by."""

    def number(self, split: Sequence[str], keys: Sequence[tuple[str, ...]]) -> str:
        """The number of a row's group; -1 for those of other groups. Adds to `rows` and `values`."""
        if not split:
            return "0"
        if not keys:
            return "-1"
        rows = []
        for number, key in enumerate(keys):
            names = []
            for place, value in enumerate(key):
                self.values[f"g{number}_{place}"] = value
                names.append(f"CAST(:g{number}_{place} AS text)")
            rows.append(f"({', '.join(names)}, {number})")
        columns = ", ".join(f"k{place}" for place in range(len(split)))
        on = " AND ".join(f"{self.column(name)} = t.k{place}" for place, name in enumerate(split))
        self.join(f"LEFT JOIN (VALUES {', '.join(rows)}) AS t({columns}, number) ON {on}")
        return "coalesce(t.number, -1)"

    @abstractmethod
    def join(self, clause: str) -> None:
        """Add a join to `rows`."""

    @abstractmethod
    def questions(self, question: Question) -> list[tuple[str, str]]:
        """What to select, and what more to group by: the sums, then whatever takes a question of its own."""

    @abstractmethod
    def read(self, row: Any) -> Totals:
        """The totals of a row of one of the questions."""


class _Rolled(_Source):
    """The roll-ups: the pieces that cover the span, with the keys that the conditions hold for."""

    moment = "r.start"
    callers = "count(DISTINCT k.caller)"

    def __init__(self, question: Question) -> None:
        columns = {name: one.column or name for name, one in CALL_FIELDS.items() if one.rolled}
        parts, self.values = conditions(question.where, columns)
        self.values |= {"first": question.first, "step": question.step}
        self._columns = columns
        self._sums = [name for name in ALL_SUMS if name in question.sums or name == "calls"]
        wanted = ["start", "key", *(name for name in self._sums if name not in _OF_KEYS), *sorted(question.histograms)]
        fine = cover(question.first, question.last, question.step, question.finest)
        coarse = cover(question.first, question.last, None, question.finest)
        self._fine, self._coarse = self._union(fine, wanted, "f"), self._union(coarse, ["key", "calls"], "c")
        where = f" WHERE {' AND '.join(parts)}" if parts else ""
        known = [f"{said} AS {name}" for name, said in _DERIVED.items()]
        known += [f"{said} AS is_{name}" for name, said in _OF_KEYS.items()]
        if question.callers:
            known.append("nullif(organization || '/' || application, '/') AS caller")
        self._keys = f"(SELECT * FROM (SELECT *, {', '.join(known)} FROM rollup_key) AS known{where})"
        self._join = ""

    def _union(self, pieces: Sequence[Piece], columns: Sequence[str], mark: str) -> str:
        parts = []
        for place, piece in enumerate(pieces):
            first, last = f"{mark}from{place}", f"{mark}to{place}"
            self.values |= {first: piece.first, last: piece.last}
            parts.append(
                f"SELECT {', '.join(columns)} FROM rollup_{piece.grain} WHERE start >= :{first} AND start < :{last}"
            )
        return f"({' UNION ALL '.join(parts)})"

    def _rows(self, tables: str) -> str:
        return f"{tables} AS r JOIN {self._keys} AS k ON k.id = r.key {self._join} WHERE true"

    @property
    def rows(self) -> str:  # type: ignore[override]
        return self._rows(self._fine)

    @property
    def whole(self) -> str:  # type: ignore[override]
        return self._rows(self._coarse)

    def join(self, clause: str) -> None:
        self._join = clause

    def column(self, name: str) -> str:
        return _as_text(f"k.{self._columns[name]}", name)

    def count(self, order: Order) -> str:
        held = "" if order == "calls" else f" FILTER (WHERE k.is_{order})"
        return f"coalesce(sum(r.calls){held}, 0)::bigint"

    def questions(self, question: Question) -> list[tuple[str, str]]:
        sums = [self._sum(name) for name in self._sums]
        sums += [f"string_agg(r.{name}, ''::bytea) AS {name}" for name in sorted(question.histograms)]
        if question.callers:
            sums.append(f"{self.callers} AS callers")
        return [(", ".join(sums), "")]

    @staticmethod
    def _sum(name: str) -> str:
        if name in _OF_KEYS:
            return f"coalesce(sum(r.calls) FILTER (WHERE k.is_{name}), 0)::bigint AS {name}"
        if name in ("min_us", "max_us"):
            return f"{name[:3]}(r.{name}) AS {name}"
        return f"sum(r.{name})::bigint AS {name}"

    def read(self, row: Any) -> Totals:
        values = row._asdict()
        values.pop("which"), values.pop("moment")
        for name in HISTOGRAMS:
            if name in values:
                values[name] = Histogram.unpacked(values[name] or b"")
        return Totals(**values)


class _Raw(_Source):
    """Single calls: for fields that roll-ups do not know."""

    moment = "c.at"
    callers = "count(DISTINCT nullif(organization || '/' || application, '/'))"

    def __init__(self, question: Question) -> None:
        self._columns = raw_columns()
        parts, self.values = conditions(question.where, self._columns)
        self.values |= {"first": question.first, "last": question.last, "step": question.step}
        self._where = " AND ".join(["c.at >= :first", "c.at < :last", *parts])
        self._join = ""

    @property
    def rows(self) -> str:  # type: ignore[override]
        return f'"call" AS c {self._join} WHERE {self._where}'

    @property
    def whole(self) -> str:  # type: ignore[override]
        return self.rows

    def join(self, clause: str) -> None:
        self._join = clause

    def column(self, name: str) -> str:
        return _as_text(self._columns[name], name)

    def count(self, order: Order) -> str:
        return "count(*)" if order == "calls" else f"count(*) FILTER (WHERE {_OF_KEYS[order]})"

    def questions(self, question: Question) -> list[tuple[str, str]]:
        sums = [self._sum(name) for name in ALL_SUMS if name in question.sums or name == "calls"]
        if question.callers:
            sums.append(f"{self.callers} AS callers")
        found = [(", ".join(sums), "")]
        for name in sorted(question.histograms):
            time, held = _RAW_TIMES[name]
            held = f" FILTER (WHERE {held.removeprefix('AND ')})" if held else ""
            bucket = f"CASE WHEN {time} > 1 THEN ceil(ln(({time})::float8) * {PER_LOG!r})::int ELSE 0 END"
            found.append((f"{bucket} AS bucket, count(*){held} AS many, '{name}' AS histogram_name", ", bucket"))
        return found

    @staticmethod
    def _sum(name: str) -> str:
        if name in _OF_KEYS:
            return f"count(*) FILTER (WHERE {_OF_KEYS[name]}) AS {name}"
        if name in ("min_us", "max_us"):
            return f"{name[:3]}(total_us) AS {name}"
        return "count(*) AS calls" if name == "calls" else f"sum({_RAW.get(name, name)})::bigint AS {name}"

    def read(self, row: Any) -> Totals:
        values = row._asdict()
        values.pop("which"), values.pop("moment")
        if "bucket" in values:
            found = Totals()
            if values["many"]:
                setattr(found, values["histogram_name"], Histogram({values["bucket"]: values["many"]}))
            return found
        return Totals(**values)
