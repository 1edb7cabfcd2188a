"""APIs: the list, and an API's page with its call path, description, subscribers, traffic and history."""

from datetime import UTC, datetime, timedelta
from typing import Any, NamedTuple

from flask import Blueprint, Response, abort, render_template, request
from pydantic import ValidationError
from sqlmodel import col, select

from tamarack.console.apis.audience_form import audience_errors, audience_options, typed_audience
from tamarack.console.apis.call_path import call_path, holding
from tamarack.console.apis.guide import guide_for
from tamarack.console.apis.guide import values as guide_values
from tamarack.console.apis.versions import replace_version, the_version
from tamarack.console.life_cycle import form as life_cycle_form
from tamarack.console.page import (
    acting,
    back_to,
    calls_between,
    done,
    draft,
    environment,
    refuse,
    render,
    requires,
    running,
)
from tamarack.core.configuration.explain import explain
from tamarack.core.configuration.model import FIELD_METHOD, Api, Configuration, Version, check
from tamarack.core.configuration.plans import Plan
from tamarack.core.graphql.described import schema_in
from tamarack.core.graphql.names import FIELD
from tamarack.core.graphql.schema import graph_of
from tamarack.core.life_cycle.ending import ending_of, standing_successor
from tamarack.core.life_cycle.states import why_not
from tamarack.core.openapi.excerpt import excerpt
from tamarack.core.policies import KINDS
from tamarack.core.stages import DRAWN, PURPOSE, Stage
from tamarack.core.traffic.totals import together
from tamarack.core.types import problems_of
from tamarack.store.applications.tables import Application, Subscription
from tamarack.store.documents import queries as documents
from tamarack.store.draft import queries as drafting
from tamarack.store.life_cycle import feedback
from tamarack.store.nodes import queries as known_nodes
from tamarack.store.people.tables import Organization
from tamarack.store.secrets import queries as secret_store
from tamarack.store.traffic import overview as watching
from tamarack.store.traffic.stage_times import stage_times
from tamarack.web.application import db, environments
from tamarack.web.pictures.traffic import calls_chart, latency_chart
from tamarack.web.words import duration

MOST_CALLERS = 200
"""Applications that the call path can be seen for."""
SHOWN_TEXT = 200_000
"""Characters of a document's text on its page; the whole is a download."""

pages = Blueprint("apis", __name__, url_prefix="/apis")


def live_numbers(api: str, version: str) -> dict[str, int]:
    """In which environments a version runs, with the rollout's number."""
    found = {}
    for where in environments():
        rollout, configuration = running(where)
        there = configuration.api(api)
        if rollout is not None and rollout.number and there is not None and there.version(version) is not None:
            found[where] = rollout.number
    return found


@pages.get("/")
@requires("see")
def index() -> Any:
    where = environment()
    now = datetime.now(UTC).replace(minute=0, second=0, microsecond=0) + timedelta(hours=1)
    span = watching.Span(now - timedelta(days=1), now, {"environment": where})
    usage = {busy.name: busy.totals for busy in watching.busiest(db(), span, ("api", "version"), most=500)}
    _, live = running(where)
    runs = {(api.name, version.version) for api in live.apis for version in api.versions}
    return render("apis/index.html", apis=draft().apis, usage=usage, runs=runs)


@pages.get("/<api>/<version>/")
@requires("see")
def page(api: str, version: str) -> Any:
    found, inside = the_version(api, version)
    if "field" in request.args:
        return _to_field(found, inside, request.args["field"].strip())
    guide = guide_values(guide_for(found, inside))
    return render("apis/call_path.html", tab="call path", **guide, **path_values(found, inside))


def _to_field(found: Api, inside: Version, field: str) -> Any:
    """To the call path of what asks for a field of a graph."""
    here = {"api": found.name, "version": inside.version}
    if found.style != "graphql" or not FIELD.fullmatch(field):
        refuse(f"{field[:100]!r} is no field of a graph; write it like Query.vessels, or Vessel.* for a type.")
        return back_to("apis.page", **here)
    schema = schema_in(documents.document_tree(db(), inside.document)) if inside.document else ""
    kind, _, name = field.partition(".")
    known = graph_of(schema).fields if schema else {}
    if schema and (kind not in known or (name != "*" and name not in known[kind])):
        refuse(f"The schema has no {field}; its fields are under Graph.")
        return back_to("apis.page", **here)
    return back_to("apis.page", operation=f"{FIELD_METHOD} {field}", **here)


def path_values(found: Api, inside: Version) -> dict[str, Any]:
    """What the call path's template shows, for the chosen operation, plan and slip."""
    where = environment()
    # From the form too: a form that is shown again with what is wrong in it stands where it stood.
    called = request.values.get("operation", "")
    find = inside.place if found.style == "graphql" else inside.operation
    operation = find(called) if called else None
    products = draft().products_with(found.name)
    plans: list[tuple[str, Plan]] = [(f"{p.name}/{plan.name}", plan) for p in products for plan in p.plans]
    chosen = request.values.get("plan", "")
    callers = _callers([product.name for product in products], where)
    on = dict(callers)[chosen].on if chosen in dict(callers) else chosen
    plan = next((plan for key, plan in plans if key == on), None)
    _, live = running(where)
    rows = call_path(draft(), live, found, inside, operation, plan)
    return {
        **head_values(found, inside),
        "operation": operation,
        "rows": rows,
        "stages": DRAWN,
        "on_error": Stage.ON_ERROR,
        "on_error_purpose": PURPOSE[Stage.ON_ERROR],
        "placeable": {kind.stage for kind in KINDS.values()},
        "secrets": [one.name for one in secret_store.all_secrets(db())],
        "purpose": PURPOSE,
        "holding": holding(rows),
        "sentences": explain(draft(), found, inside, operation, plan),
        "plans": plans,
        "callers": [(key, one.words) for key, one in callers],
        "plan_key": chosen if plan is not None else "",
        **_said_of(found, inside, operation.call if operation is not None else ""),
    }


class _Caller(NamedTuple):
    words: str
    on: str
    """The plan that it calls under, with its product."""


def _callers(products: list[str], where: str) -> list[tuple[str, _Caller]]:
    """The applications that are subscribed to some products in an environment, to see the path as theirs."""
    query = (
        select(Subscription, Application, Organization)
        .where(Subscription.application_id == Application.id, Application.organization_id == Organization.id)
        .where(col(Subscription.product).in_(products), Subscription.environment == where)
        .where(Subscription.state == "active")
        .order_by(Organization.title, Application.title)
        .limit(MOST_CALLERS)
    )
    return [
        (f"of:{one.id}", _Caller(f"{application.title}, {organization.title}: {one.plan}", f"{one.product}/{one.plan}"))
        for one, application, organization in db().exec(query)
    ]


@pages.get("/<api>/<version>/times")
@requires("see")
def times(api: str, version: str) -> Any:
    """How long each stage took lately, for the heads of the drawing."""
    the_version(api, version)
    found, many = stage_times(db(), environment(), api, version, request.args.get("operation", ""))
    shown = {stage: duration(ns / 1000) for stage, ns in found.items() if stage in DRAWN}
    return render_template("apis/stage_times.html", times=shown, many=many)


def _said_of(found: Api, inside: Version, call: str) -> dict[str, Any]:
    """What developers say of a preview, or of one operation of it."""
    if inside.state != "preview":
        return {"said": [], "tally": None}
    tally = feedback.tallies(db(), found.name, inside.version).get(call)
    said = feedback.of_version(db(), found.name, inside.version, call, most=3) if tally is not None else []
    return {"said": said, "tally": tally}


def head_values(found: Api, inside: Version) -> dict[str, Any]:
    """What the head of every tab of an API's page shows."""
    where = environment()
    rollout, _ = running(where)
    live = live_numbers(found.name, inside.version)
    nodes = known_nodes.there(db(), where)
    taken = sum(1 for node in nodes if rollout is not None and node.rollout == rollout.number)
    ends = {"ending": ending_of(inside), "successor": standing_successor(found, inside)}
    return {"api": found, "version": inside, "live": live, "nodes_total": len(nodes), "nodes_taken": taken, **ends}


@pages.get("/<api>/<version>/description")
@requires("see")
def description(api: str, version: str) -> Any:
    found, inside = the_version(api, version)
    return _description_page(found, inside, {}, {})


def _document_values(sha256: str) -> dict[str, Any]:
    """What the tab shows of a version's document: how far reading it is, or what was found."""
    text = documents.document_text(db(), sha256) or ""
    described = documents.description_of(db(), sha256)
    wrong = [problem.line for problem in described.problems] if described is not None else []
    return {
        "described": described,
        "reading": documents.reading_of(db(), sha256),
        "text": text[:SHOWN_TEXT],
        "text_size": len(text),
        "excerpt": excerpt(text, wrong),
    }


def _description_page(found: Api, inside: Version, typed: dict[str, Any], errors: dict[str, str]) -> str:
    now = datetime.now(UTC)
    span = watching.Span(now - timedelta(days=1), now, {"api": found.name, "environment": environments().live})
    return render(
        "apis/description.html",
        tab="description",
        audiences=audience_options(),
        **_document_values(inside.document),
        backends=draft().backends,
        kept=life_cycle_form.kept(inside),
        organizations=life_cycle_form.organizations(),
        typed=typed,
        errors=errors,
        calls_lately=watching.totals(db(), span).calls,
        **head_values(found, inside),
    )


@pages.get("/<api>/<version>/document")
@requires("see")
def document(api: str, version: str) -> Any:
    """The document as it was brought in, to keep or to compare."""
    _, inside = the_version(api, version)
    text = documents.document_text(db(), inside.document)
    if text is None:
        abort(404, "This version has no document.")
    ending = "json" if text.lstrip().startswith("{") else "yaml"
    fields = {"Content-Disposition": f'attachment; filename="{api}-{version}.{ending}"'}
    return Response(text, mimetype="text/plain", headers=fields)


def _with(api: Api) -> Configuration:
    """The draft with an API as it would become."""
    apis = tuple(api if one.name == api.name else one for one in draft().apis)
    return draft().model_copy(update={"apis": apis})


def _deprecating(api: Api, was: Version, now: Version, chosen: str) -> Api | None:
    """The API where publishing a version deprecates an earlier one in the same step; None where that one cannot be."""
    if not chosen or now.state != "published" or was.state not in ("draft", "preview"):
        return api
    other = api.version(chosen)
    if other is None or other.state != "published" or other.version == now.version:
        return None
    end = {"state": "deprecated", "deprecated_on": datetime.now(UTC).date(), "successor": now.version}
    return replace_version(api, other.model_copy(update=end))


def _impossible(api: Api, was: Version, now: Version) -> str:
    """Why a version cannot come to a state from the one that it runs in somewhere; empty where it can."""
    if was.state == now.state:
        return ""
    for where in reversed(environments()):  # what callers of the live one notice is said first
        there = running(where)[1].api(api.name)
        runs = there.version(now.version) if there is not None else None
        reason = why_not(runs.state, now.state) if runs is not None else ""
        if runs is not None and reason:
            return f"it runs in {where} and is {runs.state} there, so it cannot become {now.state}: {reason}"
    return ""


_OF_THE_API = ("title", "summary", "owner", "contact")
_SCOPES = "scopes"
_OF_THE_VERSION = ("base_path", "backend")
_NAMING = ("naming", "naming_name", "naming_default")
_CHECKED = (*_OF_THE_VERSION, *life_cycle_form.FIELDS, "default")


@pages.post("/<api>/<version>/description")
@requires("edit")
def change_description(api: str, version: str) -> Any:
    found, inside = the_version(api, version)
    plain = (*_OF_THE_API, _SCOPES, *_OF_THE_VERSION, *_NAMING, "deprecates")
    typed = {name: request.form.get(name, "").strip() for name in plain} | life_cycle_form.typed_fields()
    if typed["state"] == "deprecated" != inside.state and not typed["deprecated_on"]:
        typed["deprecated_on"] = str(datetime.now(UTC).date())
    audience = typed_audience()
    typed["visible_to"] = "\n".join(audience)
    try:
        own = {name: typed[name] for name in _OF_THE_VERSION} | life_cycle_form.as_version(typed)
        changed = Version.model_validate(inside.model_dump() | own)
        stepped = _deprecating(replace_version(found, changed), inside, changed, typed["deprecates"])
        if stepped is None:
            wrong = (
                f"version {typed['deprecates']} is not published, so it cannot be deprecated in this step; choose again"
            )
            return _description_page(found, inside, typed, {"deprecates": wrong}), 422
        whole = stepped
        texts = {name: typed[name] for name in _OF_THE_API}
        naming = {"by": typed["naming"], "name": typed["naming_name"], "default": typed["naming_default"]}
        named = {"naming": naming if typed["naming"] else None}
        scopes = {_SCOPES: [line for line in typed[_SCOPES].splitlines() if line.strip()]}
        whole = Api.model_validate(whole.model_dump() | texts | named | scopes | {"visible_to": audience})
    except ValidationError as error:
        problems = problems_of(error)[::-1]  # of several about one field the first says most
        errors = {life_cycle_form.field_of(problem): problem.message for problem in problems}
        return _description_page(found, inside, typed, errors), 422
    if errors := audience_errors(whole.visible_to) | life_cycle_form.errors_of(typed):
        return _description_page(found, inside, typed, errors), 422
    if impossible := _impossible(found, inside, changed):
        return _description_page(found, inside, typed, {"state": impossible}), 422
    problem = next((p for p in check(_with(whole)) if p.path[-1] in _CHECKED), None)
    if problem is not None:
        at_fault = "naming_default" if problem.path[-1] == "default" else str(problem.path[-1])
        return _description_page(found, inside, typed, {at_fault: problem.message}), 422
    if request.form.get("act") == "check":
        return _description_page(found, inside, typed, {})
    change = drafting.save(db(), acting(), "api", api, whole, f"changed the description of {found.title} {version}")
    db().commit()
    done("Saved to the draft." if change else "Nothing was different.", change)
    return back_to("apis.description", api=api, version=version)


@pages.get("/<api>/<version>/traffic")
@requires("see")
def traffic(api: str, version: str) -> Any:
    found, inside = the_version(api, version)
    where = environment()
    now = datetime.now(UTC).replace(second=0, microsecond=0) + timedelta(minutes=1)
    span = watching.Span(now - timedelta(days=1), now, {"environment": where, "api": api, "version": version})
    step = timedelta(minutes=10)
    times, points = watching.series(db(), span, step)
    return render(
        "apis/traffic.html",
        tab="traffic",
        chart=calls_chart(times, points, step, width=1000, height=190, link=calls_between(where)),
        latency=latency_chart(times, points, width=1000, height=150),
        now=together(points),
        operations=watching.busiest(db(), span, ("operation",), most=12),
        refusals=watching.refusals(db(), span),
        **head_values(found, inside),
    )


@pages.get("/<api>/<version>/subscribers")
@requires("see")
def subscribers(api: str, version: str) -> Any:
    found, inside = the_version(api, version)
    where = environment()
    names = [product.name for product in draft().products_with(api)]
    query = (
        select(Subscription, Application, Organization)
        .where(Subscription.application_id == Application.id, Application.organization_id == Organization.id)
        .where(col(Subscription.product).in_(names), Subscription.environment == where)
        .order_by(Organization.title, Application.title)
    )
    rows = db().exec(query).all()
    now = datetime.now(UTC).replace(minute=0, second=0, microsecond=0) + timedelta(hours=1)
    filters = {"environment": where, "api": api, "version": version}
    span = watching.Span(now - timedelta(days=2), now, filters)
    usage = {busy.name: busy.totals for busy in watching.busiest(db(), span, ("organization", "application"), most=500)}
    return render("apis/subscribers.html", tab="subscribers", rows=rows, usage=usage, **head_values(found, inside))


@pages.get("/<api>/<version>/history")
@requires("see")
def history(api: str, version: str) -> Any:
    found, inside = the_version(api, version)
    changes = drafting.history(db(), "api", api)
    return render("apis/history.html", tab="history", changes=changes, **head_values(found, inside))


@pages.post("/<api>/remove")
@requires("edit")
def remove(api: str) -> Any:
    found = draft().api(api)
    if found is None:
        abort(404)
    products = draft().products_with(api)
    if products:
        names = ", ".join(product.title for product in products)
        refuse(f"{found.title} is part of {names}. Remove it there first.")
        return back_to("apis.description", api=api, version=found.versions[0].version)
    change = drafting.save(db(), acting(), "api", api, None, f"removed {found.title}")
    db().commit()
    done(f"{found.title} is removed from the draft. It keeps running until the next rollout.", change)
    return back_to("apis.index")
