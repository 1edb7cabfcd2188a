"""Bringing in a GraphQL API: from its schema (a text, a file, or the answer to an introspection), by asking its
backend, or without one, as it is."""

from typing import Any

import orjson
from flask import Blueprint, current_app, request
from pydantic import ValidationError

from tamarack.console.apis.imports import FIELDS, build_api, free_name, save_api
from tamarack.console.page import acting, draft, render, requires
from tamarack.core.configuration.backend import Backend, Target
from tamarack.core.configuration.model import Api, Operation
from tamarack.core.graphql.described import OPERATIONS, graphql_document
from tamarack.core.graphql.example import example_document
from tamarack.core.graphql.handed_in import schema_of
from tamarack.core.graphql.schema import INTROSPECTION, LARGEST, Graph, SchemaProblem, graph_of_introspection
from tamarack.core.graphql.understood import Understood, understood
from tamarack.core.openapi.excerpt import excerpt
from tamarack.core.policies import Policy
from tamarack.core.policies.identify.api_key import ApiKey
from tamarack.core.policies.permit.graphql_limits import GraphqlLimits
from tamarack.core.types import problems_of
from tamarack.store.audit import log as auditing
from tamarack.store.documents import queries as documents
from tamarack.web.application import db, settings_of
from tamarack.web.outgoing.asking import NotReached, ask

pages = Blueprint("graphql_imports", __name__, url_prefix="/apis/new/graphql")

WITHIN_S = 8.0


@pages.get("/")
@requires("edit")
def form() -> Any:
    return _page(dict.fromkeys((*FIELDS, "schema"), "") | {"version": "1", "keys": True}, {})


@pages.post("/")
@requires("edit")
def save() -> Any:
    """Ask the address for its schema, show what a schema says, or save the API with its backend."""
    typed: dict[str, Any] = {name: request.form.get(name, "").strip() for name in FIELDS}
    typed |= {"schema": _schema_typed(), "keys": "keys" in request.form}
    errors: dict[str, str] = {}
    problems: list[tuple[str, int]] = []
    target = _target(typed, errors)
    act = request.form.get("act", "")
    if act == "ask" and target is not None:
        _ask(typed, target, errors)
    graph = _read(typed, errors, problems)
    if act in ("ask", "read"):
        if act == "read":
            errors = {name: words for name, words in errors.items() if name == "schema"}
        return _page(typed, errors, graph, problems), 422 if errors else 200
    made = _build(typed, target, graph, errors)
    if made is None:
        return _page(typed, errors, graph, problems), 422
    return save_api(*made)


def _schema_typed() -> str:
    """The schema: of a file, where one was chosen, else as typed."""
    given = request.files.get("file")
    if given is not None and given.filename:
        return given.stream.read(LARGEST * 4 + 1).decode("utf-8", "replace").replace("\r\n", "\n").strip()
    return request.form.get("schema", "").replace("\r\n", "\n").strip()


def _page(
    typed: dict[str, Any],
    errors: dict[str, str],
    graph: Graph | None = None,
    problems: list[tuple[str, int]] | None = None,
) -> str:
    found: Understood | None = understood(graph) if graph is not None else None
    return render(
        "apis/imports/graphql.html",
        typed=typed,
        errors=errors,
        understood=found,
        problems=problems or [],
        excerpt=excerpt(typed["schema"], (line for _, line in problems or () if line)),
        existing=draft().api(typed["name"]),
    )


def _target(typed: dict[str, Any], errors: dict[str, str]) -> Target | None:
    try:
        return Target(address=typed["address"])
    except ValidationError as error:
        errors["address"] = problems_of(error)[0].message
        return None


def _ask(typed: dict[str, Any], target: Target, errors: dict[str, str]) -> None:
    """Put the schema that an address tells of into the form; what went wrong is told at its field."""
    auditing.record(db(), acting(), "ask for a schema", target.address)
    db().commit()
    headers = {"User-Agent": "tamarack-import", "Accept": "application/json", "Content-Type": "application/json"}
    body = orjson.dumps({"query": INTROSPECTION})
    try:
        answer, content = ask("POST", target.address, headers, body, settings_of(current_app).reach, WITHIN_S)
        if answer.status != 200:
            raise NotReached(f"{target.address} answered {answer.status} {answer.reason}; paste its schema below")
        typed["schema"] = graph_of_introspection(orjson.loads(content)).text
    except NotReached as error:
        errors["address"] = str(error)
    except (ValueError, SchemaProblem) as error:
        why = str(error) if isinstance(error, SchemaProblem) else "its answer is not JSON"
        errors["address"] = f"{target.address} does not tell its schema: {why}; paste it below"


def _read(typed: dict[str, Any], errors: dict[str, str], problems: list[tuple[str, int]]) -> Graph | None:
    """The schema that was typed; of an introspection's answer, its text is put in its place."""
    text = typed["schema"]
    if not text:
        return None
    try:
        graph, typed["schema"] = schema_of(text)
        return graph
    except SchemaProblem as problem:
        problems += problem.every
        many = len(problem.every)
        errors["schema"] = str(problem) if many == 1 else f"{many} things are wrong with it; they stand below"
    return None


def _build(
    typed: dict[str, Any], target: Target | None, graph: Graph | None, errors: dict[str, str]
) -> tuple[Api, Backend | None] | None:
    """The API and its backend; None where something is wrong."""
    backend = _backend(typed, target, errors) if target is not None else None
    example = example_document(graph) if graph is not None else "{ __typename }"
    text = graphql_document(typed["title"], typed["version"], typed["summary"], typed["schema"], example)
    operations = tuple(Operation(call=call, summary=words) for call, words in OPERATIONS.items())
    policies: tuple[Policy, ...] = (ApiKey(header="x-api-key", bearer=True),) if typed["keys"] else ()
    api = build_api(
        typed, operations, documents.name_of(text), errors, backend, (*policies, GraphqlLimits()), "graphql"
    )
    if api is None or errors:
        return None
    documents.keep_document(db(), text)
    return api, backend


def _backend(typed: dict[str, Any], target: Target, errors: dict[str, str]) -> Backend | None:
    try:
        return Backend(name=free_name(typed["title"]), targets=(target,))
    except ValidationError as error:
        errors["title"] = problems_of(error)[0].message
        return None
