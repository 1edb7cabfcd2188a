"""Alerts: what is watched, how it stands, what it told, and what it would have told."""

from datetime import UTC, datetime, timedelta
from typing import Any

from flask import Blueprint, abort, request, url_for
from pydantic import ValidationError

from tamarack.console.page import act, acting, back_to, environment, me, render, requires
from tamarack.console.traffic.explore import address
from tamarack.core.traffic.alert import WATCHED, Rule, State, read_limit, run, written_limit
from tamarack.core.traffic.span import floored
from tamarack.core.traffic.where import lines
from tamarack.core.types import problems_of
from tamarack.store.alerts import queries as alerting
from tamarack.store.alerts.tables import AlertRow
from tamarack.web.application import db, environments
from tamarack.web.numbers import fraction
from tamarack.web.pictures.charts import Chart, Happened, Line, over_time
from tamarack.web.pictures.traffic import happened

pages = Blueprint("alerts", __name__, url_prefix="/traffic/alerts")

BACK = timedelta(hours=12)
"""How far back the page of an alert looks."""
TEXTS = ("title", "measure", "where", "environment", "compare", "side", "limit", "window", "holds", "hysteresis",
         "least_calls", "weeks", "quiet_first", "quiet_last", "quiet_zone", "mail_to")  # fmt: skip


def _row(id: str) -> AlertRow:
    row = db().get(AlertRow, id)
    if row is None:
        abort(404, "There is no such alert.")
    return row


@pages.get("/")
@requires("see")
def index() -> Any:
    rows = alerting.alerts(db())
    rules = {row.id: alerting.rule_of(row) for row in rows}
    template = "alerts_table" if request.args.get("part") == "table" else "alerts"
    return render(
        f"traffic/alerts/{template}.html",
        rows=rows,
        rules=rules,
        says=alerting.condition_in_words,
        shown=alerting.shown,
    )


def _typed_of(rule: Rule) -> dict[str, str]:
    return {
        "title": rule.title,
        "measure": rule.measure,
        "where": "\n".join(str(one) for one in rule.where),
        "environment": rule.environment,
        "compare": rule.compare,
        "side": rule.side,
        "limit": written_limit(rule.limit, rule.measure, rule.compare),
        "window": str(rule.window),
        "holds": str(rule.holds),
        "hysteresis": f"{rule.hysteresis * 100:g}",
        "least_calls": str(rule.least_calls),
        "weeks": str(rule.weeks),
        "quiet_first": f"{rule.quiet.first:%H:%M}" if rule.quiet is not None else "",
        "quiet_last": f"{rule.quiet.last:%H:%M}" if rule.quiet is not None else "",
        "quiet_zone": rule.quiet.zone if rule.quiet is not None else "UTC",
        "mail_to": "\n".join(rule.mail_to),
    }


def _read() -> tuple[Rule | None, dict[str, str], dict[str, str]]:
    """The rule of the form; what was typed; and what is wrong with it, by field."""
    typed = {name: request.form.get(name, "").strip()[:4000] for name in TEXTS}
    errors: dict[str, str] = {}
    values: dict[str, Any] = {name: typed[name] for name in ("title", "measure", "environment", "compare", "side")}
    values |= {name: typed[name] or "0" for name in ("window", "holds", "least_calls", "weeks")}
    values |= {"where": lines(typed["where"]), "mail_to": typed["mail_to"].replace(",", " ").split()}
    try:
        values["limit"] = read_limit(typed["limit"], typed["measure"], typed["compare"])
    except ValueError as error:
        errors["limit"] = str(error)
        values["limit"] = 0
    hysteresis = fraction(typed["hysteresis"] or "0")
    if hysteresis is not None:
        values["hysteresis"] = hysteresis / 100
    else:
        errors["hysteresis"] = f"{typed['hysteresis']!r} is not a number of percent, like 10"
    if typed["environment"] not in environments():
        errors["environment"] = f"{typed['environment'][:40]!r} is no environment; there are {environments().said}"
    if typed["quiet_first"] or typed["quiet_last"]:
        values["quiet"] = {"first": typed["quiet_first"], "last": typed["quiet_last"],
                           "zone": typed["quiet_zone"] or "UTC"}  # fmt: skip
    try:
        rule = Rule.model_validate(values)
    except ValidationError as error:
        for one in problems_of(error):
            name = "_".join(str(part) for part in one.path[:2] if isinstance(part, str)) or "where"
            errors.setdefault(name if name in TEXTS else str(one.path[0]), one.message)
        return None, typed, errors
    return (None if errors else rule), typed, errors


def _form(typed: dict[str, str], errors: dict[str, str], row: AlertRow | None, tried: Any = None) -> str:
    return render(
        "traffic/alerts/alert_edit.html",
        typed=typed,
        errors=errors,
        row=row,
        measures=WATCHED,
        environment_choices=[(one, one) for one in reversed(environments())],
        tried=tried,
    )


@pages.get("/new")
@requires("edit")
def new() -> Any:
    staff = me()
    assert staff is not None
    where = "\n".join(lines("\n".join(request.args.getlist("where"))))
    measure = request.args.get("measure", "failed share")
    share = measure in WATCHED and WATCHED[measure].unit == "share"
    typed = _typed_of(Rule(title="New", limit=0.05 if share else 1, environment=environment()))
    typed |= {"title": "", "measure": measure, "where": where, "mail_to": staff.email, "limit": "5 %" if share else ""}
    return _form(typed, {}, None)


@pages.post("/new")
@requires("edit")
def add() -> Any:
    return _keep(None)


@pages.get("/<id>/edit")
@requires("edit")
def edit(id: str) -> Any:
    row = _row(id)
    return _form(_typed_of(alerting.rule_of(row)), {}, row)


@pages.post("/<id>/edit")
@requires("edit")
def change(id: str) -> Any:
    return _keep(_row(id))


def _keep(row: AlertRow | None) -> Any:
    rule, typed, errors = _read()
    if rule is None:
        return _form(typed, errors, row), 422
    if request.form.get("do") == "try":
        return _form(typed, {}, row, _tried(rule))
    kept: list[AlertRow] = []
    if act(lambda: kept.append(alerting.save(db(), acting(), rule, row.id if row is not None else "")),
           f"{rule.title} is watched."):  # fmt: skip
        return back_to("alerts.page", id=kept[0].id)
    return back_to("alerts.index")


def _tried(rule: Rule) -> dict[str, Any]:
    """What a rule would have told lately."""
    last = floored(datetime.now(UTC), 60)
    found, events = alerting.rehearsed(db(), rule, last - BACK, last)
    stretches = []
    for place, event in enumerate(events):
        if event.what == "raised":
            over = next((one for one in events[place + 1 :] if one.what == "over"), None)
            until = over.at if over is not None else last
            stretches.append(Happened(event.at, until, "firing", f"would be raised at {event.at:%H:%M}"))
    return {"chart": _chart(rule, found, stretches), "times": len(stretches), "hours": BACK.total_seconds() / 3600,
            "says": alerting.condition_in_words(rule)}  # fmt: skip


def _chart(rule: Rule, found: alerting.Values, stretches: list[Happened]) -> Chart:
    """The measured values with the limit."""
    unit = "share" if rule.compare == "change" else rule.measured.unit
    scale, words = {"time": (1000.0, " ms"), "share": (0.01, " %")}.get(unit, (1.0, ""))
    times = [at for at, _ in found]
    values = [None if value is None else max(0.0, value / scale) for _, value in found]
    limit = [max(0.0, rule.limit / scale)] * len(times)
    said = [f"{at:%d %b %H:%M} — {alerting.shown(rule, value)}" for at, value in found]
    return over_time(
        times, [Line("measured", "g1", values), Line("limit", "limit", limit)], width=1224, height=200, stacked=False,
        words=said, label=rule.measured.title.capitalize(), unit=words, happened=stretches,
    )  # fmt: skip


@pages.get("/<id>/")
@requires("see")
def page(id: str) -> Any:
    row = _row(id)
    rule = alerting.rule_of(row)
    last = floored(datetime.now(UTC), 60)
    found = alerting.values(db(), rule, last - BACK, last)
    return render(
        "traffic/alerts/alert.html",
        row=row,
        rule=rule,
        says=alerting.condition_in_words(rule),
        shown=alerting.shown,
        chart=_chart(
            rule, found, happened(alerting.raised_between(db(), last - BACK, last, row.id), rule.environment, last)
        ),
        hours=BACK.total_seconds() / 3600,
        events=alerting.history(db(), row.id),
        explore=address(question) if (question := alerting.exploration_of(rule)) else url_for("backends.index"),
        explored=question is not None,
        would=run(rule, State(), found)[1],
    )


@pages.post("/<id>/pause")
@requires("edit")
def pause(id: str) -> Any:
    row = _row(id)
    paused = request.form.get("paused") == "yes"
    words = f"{row.rule['title']} is {'not watched for now' if paused else 'watched again'}."
    act(lambda: alerting.pause(db(), acting(), row, paused), words)
    return back_to("alerts.page", id=id)


@pages.post("/<id>/remove")
@requires("edit")
def remove(id: str) -> Any:
    row = _row(id)
    title = row.rule["title"]
    act(lambda: alerting.remove(db(), acting(), row), f"{title} is removed, with its history.")
    return back_to("alerts.index")
