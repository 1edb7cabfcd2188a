"""The bench of an API: a call made from a form that knows the operation, its answer, and its trace."""

import re
from typing import Any
from urllib.parse import parse_qsl, unquote

from flask import Blueprint, current_app, render_template, request
from pydantic import ValidationError
from sqlmodel import select

from tamarack.console.apis.pages import head_values
from tamarack.console.apis.versions import the_version
from tamarack.console.bench.operation_call import path_of, view_of
from tamarack.console.bench.trace_drawing import drawing
from tamarack.console.page import acting, environment, render, requires, running
from tamarack.core.configuration.effective import held, in_force, is_open
from tamarack.core.configuration.model import Api, Operation, Version
from tamarack.core.openapi.reference import OperationView
from tamarack.core.policies import kind_of
from tamarack.core.trying.bench import BenchAnswer, BenchCall
from tamarack.core.trying.credential_examples import credential_example
from tamarack.core.trying.examples import as_curl, as_javascript, as_python
from tamarack.core.trying.naming import named_by
from tamarack.core.types import problems_of
from tamarack.store.applications.tables import Application
from tamarack.store.audit import log as auditing
from tamarack.store.nodes import queries as known_nodes
from tamarack.store.nodes.tables import Node
from tamarack.store.people.tables import Organization
from tamarack.store.saved_calls.tables import SavedCall
from tamarack.store.traffic import traces as tracing
from tamarack.web.application import db, gateway_address, settings_of
from tamarack.web.numbers import whole
from tamarack.web.outgoing.sending import send

pages = Blueprint("bench", __name__, url_prefix="/apis/<api>/<version>/bench")


def applications() -> list[tuple[str, str]]:
    """Whom a call can be made as: ids and titles, by organization."""
    query = select(Application, Organization).where(Application.organization_id == Organization.id)
    rows = db().exec(query.order_by(Organization.title, Application.title)).all()
    return [(application.id, f"{application.title}, {owner.title}") for application, owner in rows]


def node_of(where: str) -> Node | None:
    """A node of an environment that answers."""
    return next(iter(known_nodes.carrying(db(), where)), None)


def first_call(api: Api, version: Version, operation: Operation, view: OperationView) -> dict[str, Any]:
    """What the form shows before anything was typed: the operation's own examples."""
    values = {f"{one.place}.{one.name}": one.example if one.required or one.place == "path" else ""
              for one in view.parameters if one.place in ("path", "query", "header")}  # fmt: skip
    headers = [f"content-type: {view.body.content_type}"] if view.body is not None else []
    headers += [f"{name}: {value}" for name, value in named_by(api, version, view).items()]
    return {
        "method": "GET" if operation.method == "any" else operation.method.upper(),
        "parameters": values,
        "rest": "",
        "headers": "\n".join(headers),
        "body": view.body.example if view.body is not None else "",
        "application": "",
        "claims": "",
        "expectations": "",
        "title": "",
    }


def parameters_in(version: Version, operation: Operation, path: str) -> dict[str, str]:
    """The values of an operation's parameters in the path of a call; empty where the path is another's."""
    bare, _, query = path.partition("?")
    template = version.base_path + ("" if operation.path == "/" else operation.path.removesuffix("*"))
    pattern = re.escape(template)
    names = re.findall(r"\\\{([^{}/]+)\\\}", pattern)
    pattern = re.sub(r"\\\{[^{}/]+\\\}", "([^/]*)", pattern)
    found = re.match(pattern, bare)
    if found is None:
        return {}
    values = {
        f"path.{name.replace(chr(92), '')}": unquote(value) for name, value in zip(names, found.groups(), strict=True)
    }
    return values | {f"query.{name}": held for name, held in parse_qsl(query, keep_blank_values=True)}


def again(version: Version, operation: Operation, call: BenchCall, title: str) -> dict[str, Any]:
    """What the form shows of a saved call."""
    return {
        "method": call.method,
        "parameters": parameters_in(version, operation, call.path),
        "rest": "",
        "headers": "\n".join(call.headers),
        "body": call.body,
        "application": call.application,
        "claims": call.claims,
        "expectations": "\n".join(str(one) for one in call.expectations),
        "title": title,
    }


def typed_values(operation: Operation) -> dict[str, Any]:
    """What was typed, as the form shows it again."""
    names = ("rest", "headers", "body", "application", "claims", "expectations", "title", "saved")
    typed: dict[str, Any] = {name: request.form.get(name, "") for name in names}
    typed["method"] = request.form.get("method", "") or operation.method.upper()
    typed["parameters"] = {
        name.removeprefix("p."): value for name, value in request.form.items() if name.startswith("p.")
    }
    return typed


def read_call(version: Version, operation: Operation, typed: dict[str, Any]) -> tuple[BenchCall | None, dict[str, str]]:
    """The call that was typed, or what is wrong with it by field."""
    lines = [line.strip() for line in typed["headers"].splitlines() if line.strip()]
    lines += [
        f"{name.partition('.')[2]}: {value}"
        for name, value in typed["parameters"].items()
        if name.startswith("header.") and value
    ]
    try:
        return BenchCall(
            operation=operation.call,
            method=typed["method"],
            path=path_of(version, operation, typed),
            headers=tuple(lines),
            body=typed["body"],
            application=typed["application"],
            claims=typed["claims"],
            expectations=tuple(line for line in typed["expectations"].splitlines() if line.strip()),
        ), {}
    except ValidationError as error:
        errors: dict[str, str] = {}
        for problem in problems_of(error):
            errors.setdefault(str(problem.path[0]) if problem.path else "path", problem.message)
        return None, errors


def bench_page(
    api: Api,
    version: Version,
    operation: Operation | None,
    typed: dict[str, Any],
    errors: dict[str, str],
    answer: BenchAnswer | None = None,
    call: BenchCall | None = None,
) -> str:
    """The bench with what was typed, what is wrong with it, and the answer where there is one."""
    view = view_of(version, operation) if operation is not None else None
    return render(
        "bench/page.html",
        tab="bench",
        operation=operation,
        view=view,
        typed=typed,
        errors=errors,
        answer=answer,
        examples=examples(api, version, operation, call) if call is not None and operation is not None else {},
        applications=applications(),
        uses_tokens=_uses_tokens(api, version, operation),
        node=node_of(environment()),
        **head_values(api, version),
    )


def _uses_tokens(api: Api, version: Version, operation: Operation | None) -> bool:
    rows = in_force(held(running(environment())[1], api, version, operation))
    return any(kind_of(row.policy).reads_token for row in rows)


def examples(api: Api, version: Version, operation: Operation, call: BenchCall) -> dict[str, str]:
    """A call as others can run it."""
    rows = held(running(environment())[1], api, version, operation)
    policies = [row.policy for row in in_force(rows)] if call.application and not is_open(rows) else []
    shown = call.example(gateway_address(environment()), credential_example(policies))
    return {"curl": as_curl(shown), "Python": as_python(shown), "JavaScript": as_javascript(shown)}


@pages.get("/")
@requires("see")
def page(api: str, version: str) -> Any:
    found, inside = the_version(api, version)
    wanted = request.args.get("operation", "")
    operation = inside.operation(wanted) or (inside.operations[0] if inside.operations else None)
    if operation is None:
        return bench_page(found, inside, None, {}, {})
    saved = db().get(SavedCall, request.args.get("saved", ""))
    if saved is not None and (saved.api, saved.version) == (api, version):
        typed = again(inside, operation, BenchCall.model_validate(saved.body), saved.title) | {"saved": saved.id}
        return bench_page(found, inside, operation, typed, {})
    typed = first_call(found, inside, operation, view_of(inside, operation))
    typed["parameters"] |= parameters_in(inside, operation, request.args.get("path", ""))
    return bench_page(found, inside, operation, typed | {"application": request.args.get("application", "")}, {})


@pages.post("/")
@requires("bench")
def call(api: str, version: str) -> Any:
    """Send the call that was typed, and show what came back."""
    found, inside = the_version(api, version)
    operation = inside.operation(request.form.get("operation", ""))
    if operation is None:
        return page(api, version)
    typed = typed_values(operation)
    made, errors = read_call(inside, operation, typed)
    if made is None:
        return bench_page(found, inside, operation, typed, errors), 422
    answer = send_one(made)
    db().commit()
    return bench_page(found, inside, operation, typed, {}, answer, made)


def send_one(made: BenchCall) -> BenchAnswer:
    """Send a call to the environment that the pages speak of, and note who did."""
    where = environment()
    node = node_of(where)
    if node is None:
        return BenchAnswer(problem=f"no node of {where} is running; see Nodes")
    actor = acting()
    auditing.record(
        db(), actor, "bench call", f"{made.method} {made.path.partition('?')[0]}"[:200],
        environment=where, application=made.application,
    )  # fmt: skip
    return send(made, node, settings_of(current_app).keys.raw("bench"), actor.name)


@pages.get("/trace/<id>")
@requires("see")
def trace(api: str, version: str, id: str) -> Any:
    """The trace of a call that was just sent; asked for again until it is there."""
    kept = tracing.trace_of(db(), id)
    tries = whole(request.args.get("try", "0"), most=1_000) or 0
    values = drawing(kept.body["entries"]) if kept is not None else {}
    return render_template("bench/trace.html", id=id, tries=tries, api=api, version=version, kept=kept, **values)
