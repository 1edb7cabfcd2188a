"""Exploring a GraphQL API, in the console and the portal alike: documents written beside the schema that an application
may see, weighed while they are typed, and run as that application.

A page brings who asks, what holds and where the addresses lead; here is what both do with it.
"""

from collections.abc import Mapping
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import orjson
from flask import Response, request
from graphql import print_schema
from pydantic import ValidationError

from tamarack.core.carrying.refusals import REASONS, Reason
from tamarack.core.configuration.model import Api, Operation, Version
from tamarack.core.documents.json_text import value_of
from tamarack.core.graphql.calls.documents import Documents
from tamarack.core.graphql.calls.opened import opened
from tamarack.core.graphql.calls.tried import GraphRules, TriedDocument, try_document
from tamarack.core.graphql.described import schema_in
from tamarack.core.graphql.document import LARGEST
from tamarack.core.graphql.example import example_document
from tamarack.core.graphql.schema import Graph, graph_of
from tamarack.core.graphql.understood import understood
from tamarack.core.policies.permit.graphql_fields import Standing
from tamarack.core.trying.bench import BenchAnswer, BenchCall
from tamarack.core.trying.examples import ExampleCall, as_curl, as_javascript, as_python
from tamarack.core.types import problems_of
from tamarack.store.applications.tables import Application, Subscription
from tamarack.store.people.tables import Organization

CALL = "post /"
LONGEST_VARIABLES = 50_000
LONGEST_HEADERS = 8_000
_JSON = {"Content-Type": "application/json", "Accept": "application/graphql-response+json"}


def standing_of(application: Application, owner: Organization | None, subscription: Subscription) -> Standing:
    """Who an application is to rules of fields, under a subscription."""
    groups = {*application.groups, *(owner.groups if owner is not None else ())}
    return Standing(f"{subscription.product}/{subscription.plan}", frozenset(groups))


@lru_cache(maxsize=32)
def _documents(schema: str) -> Documents:
    return Documents(graph_of(schema) if schema else None)


@dataclass(frozen=True, slots=True)
class Typed:
    """What was typed: a document, its operation, variables and header fields; `wrong` says what cannot be read."""

    text: str
    operation: str
    variables: Mapping[str, Any]
    headers: tuple[str, ...]
    wrong: Mapping[str, str]


def typed() -> Typed:
    """What the form holds."""
    text = request.form.get("document", "").replace("\r\n", "\n")[: LARGEST + 1]
    written = request.form.get("variables", "").strip()[: LONGEST_VARIABLES + 1]
    lines = request.form.get("headers", "")[:LONGEST_HEADERS].splitlines()
    wrong = {}
    variables: Any = {}
    if written:
        try:
            variables = orjson.loads(written)
        except ValueError:
            wrong["variables"] = 'The variables are not JSON; write an object, like {"first": 3}.'
        if not wrong and (not isinstance(variables, dict) or len(written) > LONGEST_VARIABLES):
            wrong["variables"] = 'The variables are an object of up to 50 kB, like {"first": 3}.'
    headers = tuple(line.strip() for line in lines if line.strip())
    return Typed(text, request.form.get("operation", "").strip()[:200], {} if wrong else variables, headers, wrong)


class Explorer:
    """The graph of a version as someone may see it, under the rules that hold."""

    def __init__(self, tree: dict[str, Any], rules: GraphRules, who: Standing) -> None:
        self.schema = schema_in(tree)
        self.rules = rules
        self.who = who

    def graph(self) -> Graph | None:
        """The part of the schema that is open to who asks; None where the schema is not known."""
        graph = _documents(self.schema).graph
        return graph_of(print_schema(opened(graph, self.rules.closed(self.who)))) if graph is not None else None

    def shown(self) -> dict[str, Any]:
        """What the page shows before anything was typed."""
        graph, known = self.graph(), self.rules.known
        text = example_document(graph) if graph is not None else "{ __typename }"
        if known is not None:
            text = next(iter(known.by_id.values()))
        return {
            "known": list(known.by_id.items()) if known is not None else [],
            "only": known is not None and known.others == "refused",
            "text": text,
            "tried": self.weighed(Typed(text, "", {}, (), {})),
            "understood": understood(graph) if graph is not None else None,
        }

    def weighed(self, one: Typed) -> TriedDocument:
        """What would become of a document."""
        if one.wrong:
            return TriedDocument(next(iter(one.wrong.values())))
        return try_document(_documents(self.schema), self.rules, self.who, one.text, one.operation, one.variables)

    def schema_file(self, name: str) -> Response | None:
        """The part of the schema that is open, as a file in its own language."""
        graph = self.graph()
        if graph is None:
            return None
        disposition = {"Content-Disposition": f'attachment; filename="{name}.graphql"'}
        return Response(graph.text + "\n", mimetype="text/plain", headers=disposition)


def call_of(
    one: Typed, version: Version, operation: Operation, named: Mapping[str, str], application: str
) -> tuple[BenchCall | None, dict[str, str]]:
    """The call that runs what was typed, or what is wrong with it by field. `named` are the fields that name the
    version."""
    if one.wrong:
        return None, dict(one.wrong)
    body: dict[str, Any] = {"query": one.text}
    body |= {"variables": one.variables} if one.variables else {}
    body |= {"operationName": one.operation} if one.operation else {}
    fields = {**_JSON, **named}
    lines = [f"{name}: {value}" for name, value in fields.items()]
    own = {line.partition(":")[0].strip().lower() for line in one.headers}
    lines = [*(line for line in lines if line.partition(":")[0].lower() not in own), *one.headers]
    try:
        return BenchCall(
            method="POST", path=version.base_path, body=orjson.dumps(body).decode(), application=application,
            operation=operation.call, headers=tuple(lines),
        ), {}  # fmt: skip
    except ValidationError as error:
        return None, {str(problem.path[0]) if problem.path else "": problem.message for problem in problems_of(error)}


def examples_of(call: BenchCall, gateway: str, shown: ExampleCall | None) -> dict[str, str]:
    """The same call for programs; `shown` is how its caller shows its credential."""
    fields = dict(line.split(": ", 1) for line in call.headers if ": " in line)
    fields = {**(shown.headers if shown is not None else {}), **fields}
    example = ExampleCall("POST", gateway + call.path, fields, call.body)
    return {"curl": as_curl(example), "Python": as_python(example), "JavaScript": as_javascript(example)}


def reason_of(answer: BenchAnswer) -> Reason | None:
    """The gateway's own reason, where it refused the call."""
    try:
        said = value_of(answer.body)
        return REASONS.get(str(said["errors"][0]["extensions"]["reason"]))
    except (ValueError, LookupError, TypeError):
        return None


def named_file(api: Api, version: Version) -> str:
    """What the file of a schema is called, without its ending."""
    return f"{api.name}-{version.version}"
