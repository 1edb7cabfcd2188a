"""The REST view of a GraphQL API: documents published as operations, written beside what becomes of their variables."""

from dataclasses import dataclass
from typing import Any

from flask import Blueprint, Response, abort, request
from pydantic import ValidationError

from tamarack.console.apis.pages import head_values
from tamarack.console.apis.versions import replace_version, the_version
from tamarack.console.life_cycle.editing import is_unread, keep, new_problems, tree_of
from tamarack.console.page import acting, back_to, done, refuse, render, requires
from tamarack.core.configuration.model import Api, Operation, Version
from tamarack.core.graphql.described import schema_in
from tamarack.core.graphql.example import example_document
from tamarack.core.graphql.schema import Graph, SchemaProblem, graph_of
from tamarack.core.graphql.views.rest_described import described_view, with_view
from tamarack.core.graphql.views.rest_view import (
    CHANGES,
    GIVES,
    LONGEST,
    READS,
    RestView,
    ViewProblem,
    view_of,
    views_in,
)
from tamarack.core.openapi.editing import without
from tamarack.core.types import problems_of
from tamarack.store.draft import queries as drafting
from tamarack.web.application import db

pages = Blueprint("rest_views", __name__, url_prefix="/apis/<api>/<version>/rest")

LONGEST_SUMMARY = 300


@dataclass(frozen=True, slots=True)
class TypedView:
    """A view as it stands in the form."""

    method: str = "get"
    path: str = ""
    summary: str = ""
    document: str = ""
    gives: str = "value"

    @property
    def call(self) -> str:
        return f"{self.method} {self.path}"


def _of_graph(api: str, version: str) -> tuple[Api, Version]:
    found, inside = the_version(api, version)
    if found.style != "graphql":
        abort(404, f"{found.title} is no GraphQL API; its operations are its own.")
    return found, inside


def _graph(tree: dict[str, Any]) -> Graph | None:
    try:
        schema = schema_in(tree)
        return graph_of(schema) if schema else None
    except SchemaProblem:
        return None


def _page(found: Api, inside: Version, was: str, typed: TypedView, errors: dict[str, str]) -> str:
    tree = tree_of(found, inside)
    graph = _graph(tree)
    view, wrong = _looked_at(typed, graph) if typed.document and typed.path else (None, {})
    return render(
        "graph/views.html",
        tab="graph",
        part="REST view",
        views=[one for one in inside.operations if one.call in views_in(tree)],
        was=was,
        typed=typed,
        errors=errors,
        view=view,
        wrong=wrong if errors else {},
        known=graph is not None,
        unread=is_unread(inside),
        methods=(*READS, *CHANGES),
        gives=list(GIVES.items()),
        **head_values(found, inside),
    )


def _looked_at(typed: TypedView, graph: Graph | None) -> tuple[RestView | None, dict[str, str]]:
    """The view that was typed, and what is wrong with it, by field."""
    if graph is None:
        return None, {"document": "the schema of this API is not known; a view is held against it"}
    try:
        return view_of(typed.call, typed.document, typed.gives, graph), {}
    except ViewProblem as problem:
        return None, {problem.field: str(problem)}


@pages.get("/")
@requires("see")
def page(api: str, version: str) -> Any:
    """A view to edit; a new one where none is chosen."""
    found, inside = _of_graph(api, version)
    tree = tree_of(found, inside)
    kept = views_in(tree)
    was = request.args.get("operation", "")
    if was not in kept:
        graph = _graph(tree)
        text = example_document(graph) if graph is not None else ""
        return _page(found, inside, "", TypedView(document=text), {})
    operation = inside.operation(was)
    method, _, path = was.partition(" ")
    text, gives = kept[was]
    summary = operation.summary if operation is not None else ""
    return _page(found, inside, was, TypedView(method, path, summary, text, gives), {})


@pages.get("/schema.graphql")
@requires("see")
def schema_text(api: str, version: str) -> Any:
    """The whole schema, for the editor."""
    graph = _graph(tree_of(*_of_graph(api, version)))
    if graph is None:
        abort(404, "The schema of this API is not known.")
    return Response(graph.text + "\n", mimetype="text/plain")


def _typed() -> TypedView:
    form = request.form
    words = {name: form.get(name, "").strip() for name in ("method", "path", "summary", "gives")}
    return TypedView(**words, document=form.get("document", "").replace("\r\n", "\n").strip()[: LONGEST + 1])


@pages.post("/look")
@requires("see")
def look(api: str, version: str) -> Any:
    """What becomes of a view, while it is typed."""
    found, inside = _of_graph(api, version)
    typed = _typed()
    view, wrong = _looked_at(typed, _graph(tree_of(found, inside)))
    return render("graph/view_looked_at.html", view=view, wrong=wrong, typed=typed, version=inside)


def _with(inside: Version, was: str, typed: TypedView) -> tuple[Operation, ...]:
    changes = {"call": typed.call, "summary": typed.summary}
    if inside.operation(was) is None:
        return (*inside.operations, Operation.model_validate(changes))
    return tuple(Operation.model_validate(dict(one) | changes) if one.call == was else one for one in inside.operations)


@pages.post("/")
@requires("edit")
def save(api: str, version: str) -> Any:
    """Save a view as it was typed: the operation, and its part of the description."""
    found, inside = _of_graph(api, version)
    was, typed = request.form.get("was", ""), _typed()
    tree = tree_of(found, inside)
    kept = views_in(tree)
    if was and was not in kept:
        refuse(f"{found.title} {version} has no view {was!r} any more; someone else changed it.")
        return back_to("rest_views.page", api=api, version=version)
    graph = _graph(tree)
    view, errors = _looked_at(typed, graph)
    if len(typed.summary) > LONGEST_SUMMARY:
        errors["summary"] = f"has more than {LONGEST_SUMMARY} characters"
    if typed.call != was and inside.operation(typed.call) is not None:
        errors["call"] = f"{typed.call} is an operation already; choose another method or path"
    if not errors:
        try:
            operations = _with(inside, was, typed)
        except ValidationError as error:
            errors["call"] = problems_of(error)[0].message
    if not errors:
        assert view is not None
        assert graph is not None
        left = without(tree, was) if was and was != typed.call else tree
        document, wrong = keep(with_view(left, described_view(view, graph, typed.summary), typed.call))
        changed = replace_version(found, inside.model_copy(update={"document": document, "operations": operations}))
        misfits = [wrong] if wrong else new_problems(changed)
        errors |= {"call": misfits[0]} if misfits else {}
    if errors:
        db().rollback()
        return _page(found, inside, was, typed, errors), 422
    words = f"edited the view {typed.call}" if was == typed.call else f"published a document as {typed.call}"
    change = drafting.save(db(), acting(), "api", api, changed, f"{words} in {found.title} {version}")
    db().commit()
    done(f"{typed.call} is in the draft, with its description." if change else "Nothing was different.", change)
    return back_to("rest_views.page", api=api, version=version, operation=typed.call)
