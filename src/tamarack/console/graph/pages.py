"""The fields of a GraphQL API's schema with their use, so that an owner knows who still needs what."""

from dataclasses import dataclass
from typing import Any

from flask import Blueprint, abort, request

from tamarack.console.apis.pages import head_values
from tamarack.console.apis.versions import the_version
from tamarack.console.page import environment, render, requires
from tamarack.core.graphql.described import schema_in
from tamarack.core.graphql.schema import SchemaProblem, graph_of
from tamarack.core.graphql.understood import ShownField, understood
from tamarack.store.documents import queries as documents
from tamarack.store.graph_use import queries as use
from tamarack.store.graph_use.queries import FieldSum
from tamarack.web.application import db

pages = Blueprint("graph", __name__, url_prefix="/apis/<api>/<version>/fields")

SPANS = (7, 30, 90)
SHOWN = {"all": "all fields", "unused": "not used", "deprecated": "deprecated"}


@dataclass(frozen=True, slots=True)
class UsedField:
    """A field of the schema with its use; one that the schema does not have any more has no `shown`."""

    name: str
    shown: ShownField | None
    use: FieldSum | None


def _rows(schema: str, used: dict[str, FieldSum]) -> list[UsedField]:
    try:
        found = understood(graph_of(schema)) if schema else None
    except SchemaProblem:
        found = None
    rows = []
    for kind in (*found.roots.values(), *found.types) if found is not None else ():
        if kind.kind in ("type", "interface"):
            for one in kind.fields:
                name = f"{kind.name}.{one.name}"
                rows.append(UsedField(name, one, used.get(name)))
    known = {row.name for row in rows}
    return rows + [UsedField(name, None, one) for name, one in sorted(used.items()) if name not in known]


@pages.get("/")
@requires("see")
def page(api: str, version: str) -> Any:
    found, inside = the_version(api, version)
    if found.style != "graphql":
        abort(404, f"{found.title} is no GraphQL API; it has no fields.")
    where = environment()
    days = next((one for one in SPANS if str(one) == request.args.get("days", "")), SPANS[1])
    shown = request.args.get("show", "")
    shown = shown if shown in SHOWN else "all"
    used = use.field_use(db(), where, found.name, inside.version, days)
    rows = _rows(schema_in(documents.document_tree(db(), inside.document) or {}), used)
    if shown == "unused":
        rows = [row for row in rows if row.use is None]
    elif shown == "deprecated":
        rows = [row for row in rows if row.shown is not None and row.shown.deprecated]
    field = request.args.get("field", "")[:200]
    return render(
        "graph/fields.html",
        **head_values(found, inside),
        tab="graph",
        part="fields",
        rows=rows,
        days=days,
        spans=SPANS,
        show=shown,
        shows=SHOWN,
        field=field,
        callers=use.callers_of(db(), where, found.name, inside.version, field, days) if field else [],
        measured=use.measured(db(), where, found.name, inside.version, SPANS[0]),
    )
