"""Traffic: the overview, the list of calls, and one call's story."""

from datetime import UTC, datetime, timedelta
from typing import Any

from flask import Blueprint, abort, redirect, request, url_for

from tamarack.console.page import calls_between, draft, environment, render, requires, running
from tamarack.console.trace_drawing import drawing
from tamarack.core.explain import explain
from tamarack.core.refusals import REASONS
from tamarack.core.story import story
from tamarack.store import subscribers, tracing, watching
from tamarack.store.traffic import CallRow
from tamarack.web.application import db
from tamarack.web.charts import step_for
from tamarack.web.pictures import CLASSES, ENDS, calls_chart, latency_chart

pages = Blueprint("traffic", __name__, url_prefix="/traffic")

STEPS = {
    "hour": timedelta(minutes=1),
    "6 hours": timedelta(minutes=2),
    "day": timedelta(minutes=10),
    "week": timedelta(hours=1),
}


@pages.get("/")
@requires("see")
def overview() -> Any:
    where = environment()
    chosen = request.args.get("span", "6 hours")
    length = watching.SPANS.get(chosen, watching.SPANS["6 hours"])
    chosen = chosen if chosen in watching.SPANS else "6 hours"
    filters = {"environment": where}
    api = request.args.get("api", "")
    if draft().api(api) is not None:
        filters["api"] = api
    span = watching.until_now(length, filters)
    step = STEPS.get(chosen) or step_for(length)
    times, points = watching.series(db(), span, step)
    by = "class" if request.args.get("by") == "class" else "end"
    values = {
        "by": by,
        "layers": CLASSES if by == "class" else ENDS,
        "span": chosen,
        "spans": list(watching.SPANS),
        "api_name": filters.get("api", ""),
        "apis": draft().apis,
        "chart": calls_chart(times, points, step, width=1224, height=200, link=calls_between(where), by=by),
        "latency": latency_chart(times, points, width=590, height=170),
        "times": times,
        "points": points,
        "step": step,
        "now": watching.together(points),
        "before": watching.totals_before(db(), span),
        "refusals": watching.refusals(db(), span),
        "callers": watching.busiest(db(), span, ("organization", "application"), most=6),
        "operations": watching.busiest(db(), span, ("api", "version", "operation"), most=6),
        "first": span.first,
        "last": span.last,
        "titles": {one.name: one.title for one in draft().apis},
    }
    template = "traffic/live.html" if request.args.get("part") == "live" else "traffic/overview.html"
    return render(template, **values)


def _moment(text: str) -> datetime | None:
    try:
        moment = datetime.fromisoformat(text)
    except ValueError:
        return None
    return moment if moment.tzinfo is not None else moment.replace(tzinfo=UTC)


def _after(text: str) -> tuple[datetime, str] | None:
    at, _, id = text.partition("~")
    moment = _moment(at)
    return (moment, id) if moment is not None and id else None


FILTERS = ("api", "organization", "application", "reason", "status", "outcome", "path", "first", "last")


@pages.get("/calls")
@requires("see")
def calls() -> Any:
    typed = {name: request.args.get(name, "").strip()[:200] for name in FILTERS}
    id = request.args.get("id", "").strip()
    if id:
        found = watching.find_call(db(), id)
        if found is not None:
            return redirect(url_for("traffic.call", id=found.id))
    wanted = watching.CallFilter(
        environment=environment(),
        **{name: typed[name] for name in ("api", "organization", "application", "reason", "status", "outcome", "path")},
        first=_moment(typed["first"]) if typed["first"] else None,
        last=_moment(typed["last"]) if typed["last"] else None,
    )
    rows = watching.calls(db(), wanted, _after(request.args.get("after", "")), most=51)
    following = f"{rows[49].at.isoformat()}~{rows[49].id}" if len(rows) > 50 else ""
    kept = {name: value for name, value in typed.items() if value}
    return render(
        "traffic/calls.html",
        rows=rows[:50],
        typed=typed,
        kept=kept,
        following=following,
        paged="after" in request.args,
        not_found=id,
        reasons=REASONS,
        apis=draft().apis,
    )


@pages.get("/calls/<id>")
@requires("see")
def call(id: str) -> Any:
    found = watching.find_call(db(), id)
    if found is None:
        abort(404, f"No call {id} is recorded. A new call is recorded within a second or two; old ones are dropped.")
    kept = tracing.trace_of(db(), id)
    body = kept.body if kept is not None else None
    return render(
        "traffic/call.html",
        call=found,
        reason=REASONS.get(found.reason),
        sentences=_rules(found),
        story=story(found, body),
        trace=drawing(body["entries"]) if body is not None else None,
        headers=body["headers"] if body is not None else [],
        by=kept.by if kept is not None else "",
        application_id=subscribers.application_id(db(), found.organization, found.application),
    )


def _rules(found: CallRow) -> Any:
    """What holds now, in that environment, for the operation that was called."""
    configuration = running(found.environment)[1]
    api = configuration.api(found.api)
    version = api.version(found.version) if api is not None else None
    operation = version.operation(found.operation) if version is not None else None
    if api is None or version is None or operation is None:
        return []
    product, _, name = found.plan.partition("/")
    offer = configuration.product(product)
    return explain(configuration, api, version, operation, offer.plan(name) if offer is not None else None)
