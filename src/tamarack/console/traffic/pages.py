"""Traffic: the overview, the list of calls, and one call's story."""

import ipaddress
from datetime import UTC, datetime
from typing import Any

from flask import Blueprint, abort, redirect, request, session, url_for

from tamarack.console.bench.trace_drawing import drawing
from tamarack.console.page import calls_between, draft, environment, render, requires, running
from tamarack.console.traffic.question import conditions, typed_span, typed_where, within_environment
from tamarack.core.carrying.refusals import REASONS
from tamarack.core.configuration.explain import explain
from tamarack.core.configuration.model import Configuration
from tamarack.core.told.refused_by import refused_by
from tamarack.core.told.story import story
from tamarack.core.traffic.fields import CALL_FIELDS
from tamarack.core.traffic.record import TIMED
from tamarack.core.traffic.span import SPANS, pictured, read_span
from tamarack.core.traffic.totals import together
from tamarack.core.traffic.where import Where, of_status
from tamarack.store.alerts import queries as alerting
from tamarack.store.applications import queries as subscribers
from tamarack.store.prompts import queries as logged_prompts
from tamarack.store.rollouts.tables import Rollout
from tamarack.store.traffic import overview as watching
from tamarack.store.traffic import reading
from tamarack.store.traffic import traces as tracing
from tamarack.store.traffic.overview import Busy, Span
from tamarack.store.traffic.tables import CallRow
from tamarack.web.application import db
from tamarack.web.pictures.traffic import CLASSES, ENDS, calls_chart, happened, latency_chart

pages = Blueprint("traffic", __name__, url_prefix="/traffic")

OPERATIONS = {"busiest": "busiest", "slowest": "slowest", "failing": "most failing"}
CALLERS = {"busiest": "busiest", "refused": "most refused"}
MOST_OPERATIONS = 500
ENOUGH_CALLS = 20
"""Calls that an operation needs, to be told as slow: of fewer the 95th of a hundred says nothing."""


@pages.get("/")
@requires("see")
def overview() -> Any:
    where, chosen = environment(), request.args.get("span", "6 hours")
    errors: dict[str, str] = {}
    try:
        first, last, step = pictured(typed_span() if "first" in request.args else chosen, datetime.now(UTC))
    except ValueError as error:
        errors["span"] = str(error)
        chosen = "6 hours"
        first, last, step = pictured(chosen, datetime.now(UTC))
    filters = {"environment": where}
    api = request.args.get("api", "")
    if draft().api(api) is not None:
        filters["api"] = api
    span = Span(first, last, filters)
    times, points = watching.series(db(), span, step)
    by = "class" if request.args.get("by") == "class" else "end"
    of_operations = request.args.get("operations") if request.args.get("operations") in OPERATIONS else "busiest"
    of_callers = request.args.get("callers") if request.args.get("callers") in CALLERS else "busiest"
    kept = {name: value for name in ("span", "first", "last", "api", "by", "operations", "callers")
            if (value := request.args.get(name))}  # fmt: skip
    values = {
        "by": by,
        "layers": CLASSES if by == "class" else ENDS,
        "span": chosen if not request.args.get("first") else "",
        "spans": tuple(SPANS),
        "errors": errors,
        "api_name": filters.get("api", ""),
        "apis": draft().apis,
        "chart": calls_chart(
            times,
            points,
            step,
            width=1224,
            height=200,
            link=calls_between(where),
            by=by,
            happened=happened(alerting.raised_between(db(), first, last), where, last),
        ),
        "latency": latency_chart(times, points, width=590, height=170),
        "moments": list(zip(times, points, strict=True))[::-1],
        "step": step,
        "now": together(points),
        "before": watching.totals_before(db(), span),
        "refusals": watching.refusals(db(), span),
        "callers": _callers(span, of_callers or "busiest"),
        "of_callers": of_callers,
        "callers_by": CALLERS,
        "operations": _operations(span, of_operations or "busiest"),
        "of_operations": of_operations,
        "operations_by": OPERATIONS,
        "first": first,
        "last": last,
        "titles": {one.name: one.title for one in draft().apis},
        "address": lambda **changes: url_for("traffic.overview", **{**kept, **changes}),
    }
    template = "traffic/live.html" if request.args.get("part") == "live" else "traffic/overview.html"
    return render(template, **values)


def _operations(span: Span, by: str, most: int = 6) -> list[Busy]:
    """The operations that are called most, answer slowest, or fail most often."""
    fields = ("api", "version", "operation")
    if by == "failing":
        found = watching.busiest(db(), span, fields, most, order="failed")
        return [one for one in found if one.totals.failed]
    if by == "busiest":
        return watching.busiest(db(), span, fields, most, histograms=("histogram",))
    found = watching.busiest(db(), span, fields, MOST_OPERATIONS, histograms=("histogram",))
    told = [one for one in found if one.totals.calls >= ENOUGH_CALLS]
    return sorted(told, key=lambda one: -(one.totals.percentile(0.95) or 0))[:most]


def _callers(span: Span, by: str, most: int = 6) -> list[Busy]:
    fields = ("application", "organization")
    found = watching.busiest(db(), span, fields, most, order="refused" if by == "refused" else "calls")
    return [one for one in found if by == "busiest" or one.totals.refused]


def _moment(typed: str) -> datetime | None:
    try:
        moment = datetime.fromisoformat(typed)
    except ValueError:
        return None
    return moment if moment.tzinfo is not None else moment.replace(tzinfo=UTC)


def _after(typed: str) -> tuple[datetime, str] | None:
    at, _, id = typed.partition("~")
    moment = _moment(at)
    return (moment, id) if moment is not None and id else None


NAMED = ("api", "version", "organization", "application", "reason", "outcome")
"""Fields that links from elsewhere name by themselves."""
SHOWN = ("time", "method", "path", "api", "version", "application", "status", "reason", "took", "backend-took",
         "answer-size")  # fmt: skip
"""The columns that a list shows until others are chosen."""
A_PAGE = 50


def listed() -> tuple[tuple[Where, ...], datetime, datetime, str, dict[str, str]]:
    """Which calls this request is about: conditions, from when to when, the span's name, and what is wrong."""
    where, errors = conditions()
    try:
        more = [of_status(request.args.get("status", "").strip()[:20])]
    except ValueError as error:
        errors["where"] = str(error)
        more = []
    for name in NAMED:
        value = request.args.get(name, "").strip()[:300]
        more.append(Where(field=name, how="is", values=(value,)) if value else None)
    path = request.args.get("path", "").strip()[:300]
    more.append(Where(field="path", how="contains", values=(path,)) if path else None)
    where = (*where, *(one for one in more if one is not None and one not in where))
    span = typed_span()
    try:
        first, last = read_span(span, datetime.now(UTC))
    except ValueError as error:
        errors["span"] = str(error)
        span = "day"
        first, last = read_span(span, datetime.now(UTC))
    return where, first, last, span, errors


def columns() -> list[str]:
    """The columns that whoever looks has chosen, kept from page to page."""
    chosen = [name for name in request.args.getlist("columns") if name in CALL_FIELDS]
    if chosen:
        session["columns"] = chosen
    return [name for name in session.get("columns", SHOWN) if name in CALL_FIELDS]


def _searched(typed: str) -> Where | str:
    """What a search means: a call's id, an address, or a piece of a path."""
    found = watching.find_call(db(), typed.lower())
    if found is not None:
        return found.id
    try:
        return Where(field="address", how="is", values=(str(ipaddress.ip_address(typed)),))
    except ValueError:
        return Where(field="path", how="contains", values=(typed,))


@pages.get("/calls")
@requires("see")
def calls() -> Any:
    where, first, last, span, errors = listed()
    typed = (request.args.get("q") or request.args.get("id") or "").strip()[:200]
    if typed:
        meant = _searched(typed)
        if isinstance(meant, str):
            return redirect(url_for("traffic.call", id=meant))
        if request.args.get("q"):
            where = (*where, meant)
    if not errors:
        wanted = watching.CallFilter(within_environment(where), first, last)
        try:
            with reading.bounded(db()):
                rows = watching.calls(db(), wanted, _after(request.args.get("after", "")), most=A_PAGE + 1)
        except reading.TookTooLong as error:
            errors["span"] = str(error)
    if errors:
        rows = []
    following = f"{rows[A_PAGE - 1].at.isoformat()}~{rows[A_PAGE - 1].id}" if len(rows) > A_PAGE else ""
    kept: dict[str, Any] = {"where": [str(one) for one in where]}
    kept |= {"span": span} if span in SPANS else {"first": first.isoformat(), "last": last.isoformat()}
    following_up = request.args.get("follow") == "yes"
    values = {
        "rows": rows[:A_PAGE],
        "columns": columns(),
        "fields": CALL_FIELDS,
        "kept": kept,
        "following": following,
        "paged": "after" in request.args,
        "follow": following_up,
        "address": lambda **changes: url_for("traffic.calls", **{**kept, **changes}),
    }
    if request.args.get("part") == "rows":
        return render("traffic/calls_table.html", **values)
    return render(
        "traffic/calls.html",
        **values,
        without=[(one, url_for("traffic.calls", **kept | {"where": [str(o) for o in where if o is not one]}))
                 for one in where],
        typed=typed_where()[-1] if "where" in errors and typed_where() else "",
        errors=errors,
        spans=tuple(SPANS),
        span=span,
        first=first,
        last=last,
        not_found=request.args.get("id", "") if typed and not request.args.get("q") else "",
    )  # fmt: skip


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
        story=story(found, _refused_by(found), body),
        trace=drawing(body["entries"]) if body is not None else None,
        headers=body["headers"] if body is not None else [],
        by=kept.by if kept is not None else "",
        logged=logged_prompts.of_call(db(), id) if found.model else None,
        stages=[(stage.label, time / 1000) for stage, time in zip(TIMED, found.stages_ns, strict=False) if time],
        application_id=subscribers.application_id(db(), found.organization, found.application),
    )


def _refused_by(found: CallRow) -> str:
    """What refused a call, by the configuration that its node was running then."""
    ran = db().get(Rollout, found.rollout) if found.policy else None
    configuration = Configuration.model_validate(ran.configuration) if ran is not None else Configuration()
    return refused_by(configuration, found)


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
