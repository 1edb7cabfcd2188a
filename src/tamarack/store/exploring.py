"""Answering explorations from the roll-ups: groups over time, with their totals."""

from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import text
from sqlmodel import Session

from tamarack.core.traffic.explore import FIELDS, MOST_GROUPS, Exploration, Sums, Where
from tamarack.store.watching import Span

_SUMS = (
    "sum(calls)::bigint AS calls, coalesce(sum(calls) FILTER (WHERE status >= 500), 0)::bigint AS failed,"
    " coalesce(sum(calls) FILTER (WHERE reason <> '' AND status < 500), 0)::bigint AS refused,"
    " sum(total_us)::bigint AS total_us, sum(backend_us)::bigint AS backend_us,"
    " sum(response_bytes)::bigint AS response_bytes"
)


_SUMMED = ("calls", "failed", "refused", "total_us", "backend_us", "response_bytes")


@dataclass(slots=True)
class Group:
    """The calls with some values of the fields that are split by (none for all others together), over time."""

    key: tuple[str, ...] | None
    total: Sums = field(default_factory=Sums)
    points: list[Sums] = field(default_factory=list)


def _column(name: str) -> str:
    assert name in FIELDS
    return f"r.{name}::text" if name == "status" else f"r.{name}"


def _condition(one: Where, place: int) -> tuple[str, dict[str, Any]]:
    """A condition as SQL and its values; what people typed is always a value."""
    column, name = _column(one.field), f"w{place}"
    match one.how:
        case "is":
            return f"{column} = ANY(:{name})", {name: list(one.values)}
        case "is not":
            return f"NOT ({column} = ANY(:{name}))", {name: list(one.values)}
        case "starts with":
            return f"starts_with({column}, :{name})", {name: one.values[0]}
        case "from":
            return f"r.status BETWEEN :{name}a AND :{name}b", {
                f"{name}a": int(one.values[0]),
                f"{name}b": int(one.values[1]),
            }


def answer(
    session: Session, exploration: Exploration, span: Span, step: timedelta
) -> tuple[list[datetime], list[Group]]:
    """The moments, and the groups with the most calls, the busiest first; others together stand last."""
    parts = ["r.grain = :grain", "r.start >= :first", "r.start < :last"]
    values: dict[str, Any] = {"grain": span.grain, "first": span.first, "last": span.last, "step": step.total_seconds()}
    for place, one in enumerate(exploration.where):
        condition, more = _condition(one, place)
        parts.append(condition)
        values |= more
    where = " AND ".join(parts)
    count = max(1, round((span.last - span.first) / step))
    times = [span.first + place * step for place in range(count)]
    keys = _keys(session, exploration, where, values)
    groups = [Group(key, points=[Sums() for _ in times]) for key in keys]
    others = Group(None, points=[Sums() for _ in times])
    join, which = _numbered(exploration.split, keys, values)
    place_of = "floor(extract(epoch FROM r.start - :first) / :step)::int"
    query = (
        f"SELECT {which} AS which, {place_of} AS place, {_SUMS} FROM rollup AS r {join}"  # noqa: S608
        f" WHERE {where} GROUP BY which, place"
    )
    for row in session.connection().execute(text(query), values):
        group = groups[row.which] if row.which >= 0 else others
        found = Sums(**{name: getattr(row, name) for name in _SUMMED})
        group.points[row.place].merge(found)
        group.total.merge(found)
    if exploration.measured.needs_histogram:
        query = (
            f"SELECT {which} AS which, {place_of} AS place, bucket, sum(many)::bigint AS many"  # noqa: S608
            f" FROM rollup AS r {join}, unnest(r.buckets, r.counts) AS h(bucket, many)"
            f" WHERE {where} GROUP BY which, place, bucket"
        )
        for row in session.connection().execute(text(query), values):
            group = groups[row.which] if row.which >= 0 else others
            found = Sums(histogram={row.bucket: row.many})
            group.points[row.place].merge(found)
            group.total.merge(found)
    return times, [*groups, others] if others.total.calls else groups


def _keys(session: Session, exploration: Exploration, where: str, values: dict[str, Any]) -> list[tuple[str, ...]]:
    """The values of the split's fields with the most calls; one empty key where nothing is split."""
    if not exploration.split:
        return [()]
    columns = ", ".join(f"{_column(name)} AS k{place}" for place, name in enumerate(exploration.split))
    names = ", ".join(f"k{place}" for place in range(len(exploration.split)))
    query = (
        f"SELECT {columns}, sum(r.calls) AS calls FROM rollup AS r WHERE {where}"  # noqa: S608
        f" GROUP BY {names} ORDER BY calls DESC, {names} LIMIT {MOST_GROUPS}"
    )
    return [tuple(row)[:-1] for row in session.connection().execute(text(query), values)]


def _numbered(split: tuple[str, ...], keys: list[tuple[str, ...]], values: dict[str, Any]) -> tuple[str, str]:
    """A join that numbers the rows by their group, and the number; -1 for those of other groups."""
    if not split:
        return "", "0"
    if not keys:
        return "", "-1"
    rows = []
    for number, key in enumerate(keys):
        names = []
        for place, value in enumerate(key):
            values[f"g{number}_{place}"] = value
            names.append(f":g{number}_{place}")
        rows.append(f"({', '.join(f'CAST({name} AS text)' for name in names)}, {number})")
    columns = ", ".join(f"k{place}" for place in range(len(split)))
    on = " AND ".join(f"{_column(name)} = t.k{place}" for place, name in enumerate(split))
    return f"LEFT JOIN (VALUES {', '.join(rows)}) AS t({columns}, number) ON {on}", "coalesce(t.number, -1)"
