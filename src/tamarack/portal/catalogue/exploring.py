"""Exploring a GraphQL API: documents written beside the schema that one may see, weighed while they are typed, and run
as one's own application."""

import time
from collections.abc import Mapping
from functools import lru_cache
from typing import Any

import orjson
from flask import Blueprint, Response, abort, current_app, request
from graphql import print_schema

from tamarack.core.carrying.refusals import REASONS, Reason
from tamarack.core.configuration.model import Api, Operation, Version
from tamarack.core.documents.json_text import value_of
from tamarack.core.graphql.asked import Documents
from tamarack.core.graphql.described import schema_in
from tamarack.core.graphql.document import LARGEST
from tamarack.core.graphql.example import example_document
from tamarack.core.graphql.opened import opened
from tamarack.core.graphql.schema import Graph, graph_of
from tamarack.core.graphql.tried import GraphRules, TriedDocument, rules_of, try_document
from tamarack.core.graphql.understood import understood
from tamarack.core.policies.permit.graphql_fields import Standing
from tamarack.core.trying.bench import BenchAnswer, BenchCall
from tamarack.core.trying.examples import ExampleCall, as_curl, as_javascript, as_python
from tamarack.core.trying.limits_left import limits_left
from tamarack.core.trying.naming import named_by
from tamarack.portal.catalogue.one_api import shown_credential, subscribed, tree, view_of
from tamarack.portal.catalogue.reference import head_values
from tamarack.portal.often import MOST_A_MINUTE, too_often
from tamarack.portal.page import acting, me, my_application, offered, render, requires, shown_version
from tamarack.store.applications.tables import Application
from tamarack.store.people.tables import Organization
from tamarack.store.rollouts import queries as rolling
from tamarack.web.application import db, settings_of
from tamarack.web.outgoing.sending import send

pages = Blueprint("exploring", __name__, url_prefix="/apis/<api>/<version>/explore")

CALL = "post /"
LONGEST_VARIABLES = 50_000


@lru_cache(maxsize=32)
def _documents(schema: str) -> Documents:
    return Documents(graph_of(schema) if schema else None)


def _found(api: str, version: str) -> tuple[Api, Version, Operation, str]:
    found, inside = shown_version(api, version)
    operation = inside.operation(CALL)
    if found.style != "graphql" or operation is None:
        abort(404, "This API has no graph to explore.")
    return found, inside, operation, schema_in(tree(inside))


def _ready(api: Api) -> list[tuple[Application, Any]]:
    return [(one, sub) for one, sub in subscribed(api.name) if sub.state == "active"]


def _standing(api: Api) -> tuple[Standing, str]:
    """Who would ask: the application that is chosen, or the first; and which that is, as the form names it."""
    ready = _ready(api)
    chosen = request.values.get("caller", "")
    named = {f"{one.id} {sub.environment}": (one, sub) for one, sub in ready}
    if not named:
        return Standing(), ""
    key = chosen if chosen in named else next(iter(named))
    application, subscription = named[key]
    organization = db().get(Organization, application.organization_id)
    groups = {*application.groups, *(organization.groups if organization is not None else ())}
    return Standing(f"{subscription.product}/{subscription.plan}", frozenset(groups)), key


def _rules(api: Api, version: Version, operation: Operation) -> GraphRules:
    return rules_of(offered("production"), api, version, operation)


@pages.get("/")
@requires("see")
def page(api: str, version: str) -> Any:
    found, inside, operation, schema = _found(api, version)
    who, key = _standing(found)
    rules = _rules(found, inside, operation)
    graph = _open_graph(schema, rules, who)
    text = example_document(graph) if graph is not None else "{ __typename }"
    if rules.known is not None:
        text = next(iter(rules.known.by_id.values()))
    return render(
        "catalogue/exploring/page.html",
        **head_values(found, inside),
        tab="explore",
        ready=_ready(found),
        caller=key,
        known=list(rules.known.by_id.items()) if rules.known is not None else [],
        only=rules.known is not None and rules.known.others == "refused",
        text=text,
        tried=try_document(_documents(schema), rules, who, text, "", {}),
        understood=understood(graph) if graph is not None else None,
    )


def _open_graph(schema: str, rules: GraphRules, who: Standing) -> Graph | None:
    """The part of the schema that is open to someone; None where it is not known, or nothing of it is told."""
    graph = _documents(schema).graph
    if graph is None:
        return None
    return graph_of(print_schema(opened(graph, rules.closed(who))))


@pages.get("/schema.graphql")
@requires("see")
def schema_text(api: str, version: str) -> Any:
    """The part of the schema that is open to the reader's application, in its own language."""
    found, inside, operation, schema = _found(api, version)
    who, _ = _standing(found)
    graph = _open_graph(schema, _rules(found, inside, operation), who)
    if graph is None:
        abort(404, "The schema of this API is not known here.")
    name = f"{found.name}-{inside.version}.graphql"
    return Response(
        graph.text + "\n", mimetype="text/plain", headers={"Content-Disposition": f'attachment; filename="{name}"'}
    )


def _typed() -> tuple[str, str, Mapping[str, Any], str]:
    """The document, the operation's name and the variables that were typed, and what is wrong with those."""
    text = request.form.get("document", "").replace("\r\n", "\n")[: LARGEST + 1]
    written = request.form.get("variables", "").strip()[: LONGEST_VARIABLES + 1]
    named = request.form.get("operation", "").strip()[:200]
    if not written:
        return text, named, {}, ""
    try:
        variables = orjson.loads(written)
    except ValueError:
        return text, named, {}, 'The variables are not JSON; write an object, like {"first": 3}.'
    if not isinstance(variables, dict) or len(written) > LONGEST_VARIABLES:
        return text, named, {}, 'The variables are an object of up to 50 kB, like {"first": 3}.'
    return text, named, variables, ""


@pages.post("/weigh")
@requires("see")
def weigh(api: str, version: str) -> Any:
    """What would become of the document, while it is typed."""
    found, inside, operation, schema = _found(api, version)
    text, named, variables, wrong = _typed()
    who, _ = _standing(found)
    tried = (
        TriedDocument(wrong)
        if wrong
        else try_document(_documents(schema), _rules(found, inside, operation), who, text, named, variables)
    )
    return render("catalogue/exploring/weighed.html", tried=tried)


@pages.post("/run")
@requires("see")
def run(api: str, version: str) -> Any:
    """Run the document as an application, and show what came back, with the call for programs."""
    found, inside, operation, _ = _found(api, version)
    person = me()
    text, operation_name, variables, wrong = _typed()
    id, _, environment = request.form.get("caller", "").partition(" ")
    application = my_application(id)
    assert person is not None
    if wrong:
        return _answer({"variables": wrong}), 422
    if too_often(person.id, time.monotonic()):
        words = f"You tried {MOST_A_MINUTE} calls within a minute; wait a little, or call from your own program."
        return _answer({"": words}), 422
    body: dict[str, Any] = {"query": text}
    body |= {"variables": variables} if variables else {}
    body |= {"operationName": operation_name} if operation_name else {}
    written = orjson.dumps(body).decode()
    named = named_by(found, inside, view_of(inside, operation))
    fields = {"Content-Type": "application/json", "Accept": "application/graphql-response+json", **named}
    call = BenchCall(method="POST", path=inside.base_path, body=written, application=application.id,
                     headers=tuple(f"{name}: {value}" for name, value in fields.items()))  # fmt: skip
    node = next((one for one in rolling.nodes(db(), environment) if not rolling.is_away(one)), None)
    answer = (
        send(call, node, settings_of(current_app).keys.raw("bench"), acting().name)
        if node is not None
        else BenchAnswer(problem=f"No node of {environment[:20]} answers at the moment; try again shortly.")
    )
    shown = shown_credential(found, inside, operation)
    address = settings_of(current_app).gateway_url(environment or "production") + inside.base_path
    example = ExampleCall("POST", address, {**(shown.headers if shown is not None else {}), **fields}, written)
    return _answer(
        {}, answer=answer, call=call, environment=environment, left=limits_left(answer.headers),
        reason=_reason(answer), asked={"api": api, "version": version, "operation": CALL},
        examples={"curl": as_curl(example), "Python": as_python(example), "JavaScript": as_javascript(example)},
    )  # fmt: skip


def _answer(errors: dict[str, str], **more: Any) -> str:
    return render("catalogue/exploring/explored.html", **({"errors": errors, "answer": None, "examples": {}} | more))


def _reason(answer: BenchAnswer) -> Reason | None:
    """The gateway's own reason, where it refused the call."""
    try:
        said = value_of(answer.body)
        return REASONS.get(str(said["errors"][0]["extensions"]["reason"]))
    except (ValueError, LookupError, TypeError):
        return None
