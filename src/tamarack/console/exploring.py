"""Explore: one question of the traffic at a time, held by the address; a mark narrows it, the back button undoes."""

import csv
import io
import json
from collections.abc import Iterator, Sequence
from datetime import UTC, datetime, timedelta
from typing import Any

from flask import Blueprint, Response, abort, request, url_for
from pydantic import ValidationError

from tamarack.console.page import environment, render, requires
from tamarack.core.model import problems_of
from tamarack.core.traffic.explore import FIELDS, MEASURES, MOST_SPLITS, OTHER, Exploration, Measure, Where
from tamarack.store import exploring, watching
from tamarack.store.exploring import Group
from tamarack.web.application import db
from tamarack.web.charts import Line, over_time, step_for
from tamarack.web.pictures import minutes_passed
from tamarack.web.words import duration, number, share

pages = Blueprint("exploring", __name__, url_prefix="/traffic/explore")

SPANS = {**watching.SPANS, "month": timedelta(days=30)}


def _asked() -> tuple[Exploration, dict[str, str]]:
    """The exploration that the address holds, and what is wrong with it; then a plain one stands in."""
    typed = {
        "measure": request.args.get("measure", "calls"),
        "split": [name for name in request.args.getlist("split") if name],
        "where": [line.strip() for text in request.args.getlist("where") for line in text.splitlines() if line.strip()],
        "span": request.args.get("span", "day") if request.args.get("span", "day") in SPANS else "day",
        "picture": request.args.get("picture", "area"),
    }
    try:
        return Exploration.model_validate(typed), {}
    except ValidationError as error:
        return Exploration(), {str(one.path[0]): one.message for one in problems_of(error) if one.path}


def shown(value: float | None, measure: Measure) -> str:
    """A value with its unit, as everywhere."""
    match measure.unit:
        case "time":
            return duration(value)
        case "share":
            return share(value)
        case _:
            return number(value)


def _name(group: Group) -> str:
    if group.key is None:
        return OTHER
    return ", ".join(value or "none" for value in group.key) or "all calls"


def _answered(exploration: Exploration) -> tuple[list[datetime], list[Group], timedelta, watching.Span]:
    """Only of the chosen environment, unless the question names one itself."""
    if not any(one.field == "environment" for one in exploration.where) and "environment" not in exploration.split:
        here = Where(field="environment", how="is", values=(environment(),))
        exploration = exploration.model_copy(update={"where": (*exploration.where, here)})
    span = watching.until_now(SPANS[exploration.span])
    step = step_for(SPANS[exploration.span])
    times, groups = exploring.answer(db(), exploration, span, step)
    return times, groups, step, span


def _lengths(times: Sequence[datetime], step: timedelta) -> list[float]:
    """Seconds of each moment; the last is still running, and its rates are those of its part."""
    present = datetime.now(UTC)
    return [60 * minutes_passed(time, step, present) for time in times]


@pages.get("/")
@requires("see")
def page() -> Any:
    exploration, errors = _asked()
    times, groups, step, span = _answered(exploration)
    measure = exploration.measured
    lengths = _lengths(times, step)
    values = {
        _name(group): [measure.of(point, length) for point, length in zip(group.points, lengths, strict=True)]
        for group in groups
    }
    words = [
        f"{time:%d %b %H:%M} — " + ", ".join(f"{name} {shown(found[place], measure)}" for name, found in values.items())
        for place, time in enumerate(times)
    ]
    scale = 1000 if measure.unit == "time" else 0.01 if measure.unit == "share" else 1
    lines = [
        Line(name, f"g{place}", [None if value is None else value / scale for value in found])
        for place, (name, found) in enumerate(values.items())
    ]
    unit = {"time": " ms", "share": " %"}.get(measure.unit, "")
    whole = (span.last - span.first).total_seconds()
    return render(
        "traffic/explore.html",
        exploration=exploration,
        errors=errors,
        typed="\n".join(request.args.getlist("where")) if errors else "\n".join(exploration.query()["where"]),
        measures=MEASURES,
        fields=FIELDS,
        most_splits=MOST_SPLITS,
        spans=tuple(SPANS),
        chart=over_time(times, lines, width=1224, height=240, stacked=exploration.stacked, words=words, unit=unit,
                        label=measure.title),
        rows=[
            (f"g{place}", _name(group), shown(measure.of(group.total, whole), measure), group.total.calls,
             shown(_of("error share", group, whole), MEASURES["error share"]), shown(_of("mean", group, whole),
                                                                                      MEASURES["mean"]),
             _narrower(exploration, group))
            for place, group in enumerate(groups)
        ],
        address=lambda **changes: url_for("exploring.page", **{**exploration.query(), **changes}),
        hand_over=lambda form: url_for("exploring.hand_over", form=form, **exploration.query()),
        nothing=not any(group.total.calls for group in groups),
    )  # fmt: skip


def _of(name: str, group: Group, seconds: float) -> float | None:
    return MEASURES[name].of(group.total, seconds)


def _narrower(exploration: Exploration, group: Group) -> str:
    """Where a group's mark leads: the same question of its calls alone."""
    if group.key is None or not exploration.split:
        return ""
    narrowed = exploration.narrowed(dict(zip(exploration.split, group.key, strict=True)))
    return url_for("exploring.page", **narrowed.query())


FORMS = {"csv": "text/csv", "jsonl": "application/jsonl"}


@pages.get("/<form>")
@requires("see")
def hand_over(form: str) -> Any:
    """What is shown, as CSV (RFC 4180) or JSON Lines: a row for each group and moment."""
    if form not in FORMS:
        abort(404, f"An exploration is handed over as {' or '.join(FORMS)}.")
    exploration, errors = _asked()
    if errors:
        abort(422, "; ".join(errors.values()))
    times, groups, step, _ = _answered(exploration)
    columns = list(dict.fromkeys(["start", *exploration.split, "calls", exploration.measure]))
    rows = _rows(exploration, times, groups, step)
    text = _csv(columns, rows) if form == "csv" else _jsonl(columns, rows)
    fields = {"Content-Disposition": f'attachment; filename="exploration.{form}"'}
    return Response(text, mimetype=FORMS[form], headers=fields)


def _rows(
    exploration: Exploration, times: Sequence[datetime], groups: Sequence[Group], step: timedelta
) -> Iterator[list[Any]]:
    measure, lengths = exploration.measured, _lengths(times, step)
    for group in groups:
        key = group.key if group.key is not None else (OTHER,) * len(exploration.split)
        for time, point, length in zip(times, group.points, lengths, strict=True):
            counted = [point.calls] if exploration.measure == "calls" else [point.calls, measure.of(point, length)]
            yield [time.isoformat(), *key, *counted]


def _csv(columns: list[str], rows: Iterator[list[Any]]) -> Iterator[str]:
    """Line by line. A value that a spreadsheet would take for a formula is set off with an apostrophe."""
    yield _line(columns)
    for values in rows:
        yield _line([f"'{v}" if isinstance(v, str) and v.startswith(("=", "+", "-", "@")) else v for v in values])


def _line(values: list[Any]) -> str:
    out = io.StringIO()
    csv.writer(out).writerow(values)
    return out.getvalue()


def _jsonl(columns: list[str], rows: Iterator[list[Any]]) -> Iterator[str]:
    for values in rows:
        yield json.dumps(dict(zip(columns, values, strict=False))) + "\n"
