"""Exploring a GraphQL API as any of its subscribers: what they may see, and what they are told."""

from typing import Any

from flask import Blueprint, abort, request, url_for
from sqlmodel import col, select

from tamarack.console.apis.pages import head_values
from tamarack.console.apis.versions import the_version
from tamarack.console.bench.operation_call import view_of
from tamarack.console.bench.pages import examples, node_of, send_one
from tamarack.console.page import environment, may, render, requires, running
from tamarack.core.configuration.model import Api, Configuration, Operation, Version
from tamarack.core.graphql.calls.tried import rules_of
from tamarack.core.policies.permit.graphql_fields import Standing
from tamarack.core.trying.naming import named_by
from tamarack.store.applications.tables import Application, Subscription
from tamarack.store.documents import queries as documents
from tamarack.store.people.tables import Organization
from tamarack.web.application import db
from tamarack.web.graphs import exploring

pages = Blueprint("graph_explorer", __name__, url_prefix="/apis/<api>/<version>/explorer")

MOST_ASKERS = 500
FOR_STAFF = {"whom": "this application", "mend": "open them in the policy that closes them"}
"""How a page for staff speaks of who asks."""


def _found(api: str, version: str) -> tuple[Configuration, Api, Version, Operation] | None:
    """What runs of a graph; None where nothing of it does."""
    found, _ = the_version(api, version)
    if found.style != "graphql":
        abort(404, f"{found.title} is no GraphQL API; it has no graph to explore.")
    configuration = running(environment())[1]
    there = configuration.api(api)
    inside = there.version(version) if there is not None else None
    operation = inside.operation(exploring.CALL) if inside is not None else None
    if there is None or inside is None or operation is None:
        return None
    return configuration, there, inside, operation


def _askers(configuration: Configuration, api: Api) -> dict[str, tuple[str, Standing]]:
    """The subscribers in the environment, by application and product: words, and who each is to rules of fields."""
    products = [product.name for product in configuration.products_with(api.name)]
    query = (
        select(Application, Organization, Subscription)
        .where(Application.organization_id == Organization.id, Subscription.application_id == Application.id)
        .where(col(Subscription.product).in_(products), Subscription.state == "active")
        .where(Subscription.environment == environment())
        .order_by(Organization.title, Application.title, Subscription.product)
        .limit(MOST_ASKERS)
    )
    return {
        f"{application.id} {one.product}": (
            f"{application.title}, {owner.title}: {one.plan}",
            exploring.standing_of(application, owner, one),
        )
        for application, owner, one in db().exec(query)
    }


def _explorer(
    configuration: Configuration, api: Api, version: Version, operation: Operation
) -> tuple[exploring.Explorer, str, dict[str, tuple[str, Standing]]]:
    """The graph as the chosen subscriber sees it, or the first; which that is; and all of them."""
    askers = _askers(configuration, api)
    chosen = request.values.get("caller", "")
    key = chosen if chosen in askers else next(iter(askers), "")
    rules = rules_of(configuration, api, version, operation)
    tree = documents.document_tree(db(), version.document) if version.document else {}
    return exploring.Explorer(tree, rules, askers[key][1] if key else Standing()), key, askers


@pages.get("/")
@requires("see")
def page(api: str, version: str) -> Any:
    drafted, described = the_version(api, version)
    runs = _found(api, version)
    values = {**head_values(drafted, described), "tab": "graph", "part": "explorer", "runs": runs is not None}
    if runs is None:
        return render("graph/explorer.html", **values)
    explorer, key, askers = _explorer(*runs)
    here: dict[str, Any] = {"api": api, "version": version}
    at = {name: url_for(f"graph_explorer.{name}", **here) for name in ("run", "weigh", "page")}
    return render(
        "graph/explorer.html",
        **values,
        **explorer.shown(),
        **FOR_STAFF,
        ready=[(key, words) for key, (words, _) in askers.items()],
        caller=key,
        at=at | {"schema": url_for("graph_explorer.schema_text", caller=key or None, **here)},
        node=node_of(environment()),
        may_run=may("bench"),
    )


def _running_one(api: str, version: str) -> tuple[Configuration, Api, Version, Operation]:
    found = _found(api, version)
    if found is None:
        abort(404, f"Nothing of {api} {version} runs in {environment()}.")
    return found


@pages.get("/schema.graphql")
@requires("see")
def schema_text(api: str, version: str) -> Any:
    """The part of the schema that is open to the chosen subscriber, in its own language."""
    runs = _running_one(api, version)
    explorer, _, _ = _explorer(*runs)
    file = explorer.schema_file(exploring.named_file(runs[1], runs[2]))
    if file is None:
        abort(404, "The schema of this API is not known.")
    return file


@pages.post("/weigh")
@requires("see")
def weigh(api: str, version: str) -> Any:
    """What would become of the document, while it is typed."""
    explorer, _, _ = _explorer(*_running_one(api, version))
    return render("exploring/weighed.html", tried=explorer.weighed(exploring.typed()), **FOR_STAFF)


@pages.post("/run")
@requires("bench")
def run(api: str, version: str) -> Any:
    """Run the document as a subscriber, which is noted, and show what came back."""
    _, found, inside, operation = _running_one(api, version)
    id = request.form.get("caller", "").partition(" ")[0]
    named = named_by(found, inside, view_of(inside, operation))
    call, errors = exploring.call_of(exploring.typed(), inside, operation, named, id)
    if call is None:
        return render("graph/explored.html", errors=errors), 422
    answer = send_one(call)
    db().commit()
    return render(
        "graph/explored.html",
        errors={},
        answer=answer,
        api=found,
        version=inside,
        reason=exploring.reason_of(answer),
        examples=examples(found, inside, operation, call),
    )
