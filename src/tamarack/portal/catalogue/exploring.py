"""Exploring a GraphQL API as one's own application."""

import time
from typing import Any

from flask import Blueprint, abort, current_app, request, url_for

from tamarack.core.configuration.model import Api, Operation, Version
from tamarack.core.graphql.calls.tried import rules_of
from tamarack.core.policies.permit.graphql_fields import Standing
from tamarack.core.trying.bench import BenchAnswer
from tamarack.core.trying.limits_left import limits_left
from tamarack.core.trying.naming import named_by
from tamarack.portal.catalogue.one_api import shown_credential, subscribed, tree, view_of
from tamarack.portal.catalogue.reference import head_values
from tamarack.portal.often import a_node, nobody_answers, often_words
from tamarack.portal.page import acting, me, my_application, offered_live, render, requires, shown_version
from tamarack.store.people.tables import Organization
from tamarack.web.application import db, environments, gateway_address, settings_of
from tamarack.web.graphs import exploring
from tamarack.web.outgoing.sending import send

pages = Blueprint("exploring", __name__, url_prefix="/apis/<api>/<version>/explore")


def _found(api: str, version: str) -> tuple[Api, Version, Operation]:
    found, inside = shown_version(api, version)
    operation = inside.operation(exploring.CALL)
    if found.style != "graphql" or operation is None:
        abort(404, "This API has no graph to explore.")
    return found, inside, operation


def _askers(api: Api) -> dict[str, tuple[str, Standing]]:
    """Whom one may ask as, by a key: words, and who that is to rules of fields."""
    found = {}
    for application, one in subscribed(api.name):
        if one.state == "active":
            owner = db().get(Organization, application.organization_id)
            words = f"{application.title}, {one.plan}, {one.environment}"
            found[f"{application.id} {one.environment}"] = words, exploring.standing_of(application, owner, one)
    return found


def _explorer(api: Api, version: Version, operation: Operation) -> tuple[exploring.Explorer, str]:
    """The graph as the chosen application sees it, or the first; and which that is."""
    askers = _askers(api)
    chosen = request.values.get("caller", "")
    key = chosen if chosen in askers else next(iter(askers), "")
    rules = rules_of(offered_live(), api, version, operation)
    return exploring.Explorer(tree(version), rules, askers[key][1] if key else Standing()), key


@pages.get("/")
@requires("see")
def page(api: str, version: str) -> Any:
    found, inside, operation = _found(api, version)
    explorer, key = _explorer(found, inside, operation)
    here: dict[str, Any] = {"api": api, "version": version}
    at = {name: url_for(f"exploring.{name}", **here) for name in ("run", "weigh", "page")}
    return render(
        "catalogue/exploring/page.html",
        **head_values(found, inside),
        **explorer.shown(),
        tab="explore",
        ready=[(key, words) for key, (words, _) in _askers(found).items()],
        caller=key,
        at=at | {"schema": url_for("exploring.schema_text", caller=key or None, **here)},
    )


@pages.get("/schema.graphql")
@requires("see")
def schema_text(api: str, version: str) -> Any:
    """The part of the schema that is open to the reader's application, in its own language."""
    found, inside, operation = _found(api, version)
    explorer, _ = _explorer(found, inside, operation)
    file = explorer.schema_file(exploring.named_file(found, inside))
    if file is None:
        abort(404, "The schema of this API is not known here.")
    return file


@pages.post("/weigh")
@requires("see")
def weigh(api: str, version: str) -> Any:
    """What would become of the document, while it is typed."""
    explorer, _ = _explorer(*_found(api, version))
    return render("exploring/weighed.html", tried=explorer.weighed(exploring.typed()))


@pages.post("/run")
@requires("see")
def run(api: str, version: str) -> Any:
    """Run the document as an application, and show what came back, with the call for programs."""
    found, inside, operation = _found(api, version)
    person = me()
    id, _, environment = request.form.get("caller", "").partition(" ")
    application = my_application(id)
    assert person is not None
    named = named_by(found, inside, view_of(inside, operation))
    call, errors = exploring.call_of(exploring.typed(), inside, operation, named, application.id)
    if call is None:
        return _answer(errors), 422
    if words := often_words(person.id, time.monotonic()):
        return _answer({"": words}), 422
    node = a_node(environment)
    answer = (
        send(call, node, settings_of(current_app).keys.raw("bench"), acting().name)
        if node is not None
        else BenchAnswer(problem=nobody_answers(environment))
    )
    shown = shown_credential(found, inside, operation)
    return _answer(
        {},
        answer=answer,
        call=call,
        environment=environment,
        left=limits_left(answer.headers),
        reason=exploring.reason_of(answer),
        asked={"api": api, "version": version, "operation": exploring.CALL},
        examples=exploring.examples_of(call, gateway_address(environment or environments().live), shown),
    )


def _answer(errors: dict[str, str], **more: Any) -> str:
    return render("catalogue/exploring/explored.html", **({"errors": errors, "answer": None, "examples": {}} | more))
