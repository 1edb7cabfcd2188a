"""Explain: what holds for an operation and an application, and whether its call would pass, by the node's steps."""

import json
import time
from typing import Any

from flask import Blueprint, current_app, request
from sqlmodel import col, select

from tamarack.console.apis.pages import head_values
from tamarack.console.apis.versions import the_version
from tamarack.console.bench.operation_call import path_of, view_of
from tamarack.console.bench.pages import applications
from tamarack.console.bench.trace_drawing import drawing
from tamarack.console.page import draft, environment, render, requires, running
from tamarack.core.configuration.effective import held, in_force, is_open
from tamarack.core.configuration.explain import explain
from tamarack.core.configuration.model import Configuration
from tamarack.core.configuration.plans import Plan
from tamarack.core.identity.credentials import KIND_TITLES, state_of
from tamarack.core.policies import AnyPolicy, kind_of
from tamarack.core.stages import Stage
from tamarack.core.text import in_words
from tamarack.core.told.trace import as_data
from tamarack.core.told.would_pass import Outcome, would_pass
from tamarack.core.trying.naming import named_by
from tamarack.store.applications import queries as subscribers
from tamarack.store.applications.tables import Application, Credential
from tamarack.store.documents import queries as documents
from tamarack.store.rollouts import queries as rolling
from tamarack.store.rollouts.tables import FeedItem
from tamarack.store.sign_in import clients
from tamarack.store.sign_in.tables import SignInClient
from tamarack.web.application import db, settings_of

pages = Blueprint("explaining", __name__, url_prefix="/apis/<api>/<version>/explain")


def _plan(configuration: Configuration, application: Application | None, api: str, where: str) -> Plan | None:
    """The plan of the subscription in force that covers an API, if there is one."""
    if application is None:
        return None
    for one in subscribers.subscriptions_of(db(), application):
        product = configuration.product(one.product)
        if one.environment == where and one.state == "active" and product is not None and api in product.apis:
            return product.plan(one.plan)
    return None


def _credentials(application: Application | None, kinds: set[str], where: str) -> list[tuple[Credential, str]]:
    """The application's credentials of the kinds that are taken, with their states."""
    if application is None:
        return []
    present = time.time()
    return [
        (one, state_of(one.expires_at.timestamp() if one.expires_at else None, one.revoked_at is not None, present))
        for one in subscribers.credentials_of(db(), application)
        if one.kind in kinds and one.environment == where
    ]


def _claims(typed: str) -> tuple[dict[str, Any] | None, str]:
    """The claims that were typed, or what is wrong with them."""
    if not typed:
        return None, ""
    try:
        said = json.loads(typed)
    except ValueError as error:
        return None, f"what its token says is not JSON: {error}"
    if not isinstance(said, dict):
        return None, 'what its token says is not a JSON object; write like {"groups": ["crew"]}'
    return said, ""


def _clients(application: Application | None, ways: list[AnyPolicy], where: str) -> list[SignInClient]:
    """The application's clients whose tokens one of the ways takes."""
    if application is None:
        return []
    service = settings_of(current_app).sign_in_url
    issuers = {kind_of(one).issuer(one, service) for one in ways}
    return [
        one
        for one in clients.clients_of(db(), application.id)
        if one.revoked_at is None and one.environment == where and f"{service}/{one.directory}" in issuers
    ]


@pages.get("/")
@requires("see")
def page(api: str, version: str) -> Any:
    found, inside = the_version(api, version)
    where = environment()
    source = "draft" if request.args.get("source") == "draft" else "running"
    configuration = draft() if source == "draft" else running(where)[1]
    there = configuration.api(api)
    within = there.version(version) if there is not None else None
    wanted = request.args.get("operation", "")
    chosen = inside.operation(wanted) or (inside.operations[0] if inside.operations else None)
    operation = within.operation(chosen.call) if within is not None and chosen is not None else None
    application = db().get(Application, request.args.get("application", ""))
    outcome: Outcome | None = None
    claims = request.args.get("claims", "").strip()[:2_000]
    said, claims_error = _claims(claims)
    uses_tokens = False
    sentences: Any = []
    ways: list[AnyPolicy] = []
    if there is not None and within is not None and operation is not None:
        rows = in_force(held(configuration, there, within, operation))
        if not is_open(rows):
            ways = [row.policy for row in rows if row.stage is Stage.IDENTIFY]
        uses_tokens = any(kind_of(row.policy).reads_token for row in rows)
        sentences = explain(configuration, there, within, operation, _plan(configuration, application, api, where))
        if request.args.get("application"):
            view = view_of(within, operation)
            parameters = {f"path.{p.name}": p.example or p.name for p in view.parameters if p.place == "path"}
            path = path_of(within, operation, {"parameters": parameters, "rest": "any"})
            known = col(FeedItem.kind).in_(("application", "subscription"))
            feed = [(one.kind, one.key, one.body) for one in db().exec(select(FeedItem).where(known))]
            outcome = would_pass(
                configuration,
                where,
                feed,
                "GET" if operation.method == "any" else operation.method.upper(),
                path.encode(),
                application.id if application is not None else "",
                time.time(),
                time.perf_counter_ns,
                said,
                [(name.encode(), value.encode()) for name, value in named_by(there, within, view).items()],
                documents=lambda sha256: documents.document_tree(db(), sha256),
                closed_at=rolling.closed_at(db(), where, configuration),
            )
    credentials = _credentials(application, {kind_of(one).credential for one in ways}, where)
    signs_in = _clients(application, ways, where)
    many = (("credential", sum(state == "in force" for _, state in credentials)), ("client", len(signs_in)))
    return render(
        "bench/explain.html",
        tab="explain",
        operation=chosen,
        there=operation is not None,
        source=source,
        application=application,
        applications=applications(),
        outcome=outcome,
        sentences=sentences,
        kinds=[KIND_TITLES.get(kind_of(one).credential) or kind_of(one).title for one in ways],
        credentials=credentials,
        usable=sum(number for _, number in many),
        shows=in_words([f"{number} {what}{'' if number == 1 else 's'}" for what, number in many if number]),
        titles=KIND_TITLES,
        claims=claims,
        claims_error=claims_error,
        uses_tokens=uses_tokens,
        trace=drawing(as_data(outcome.entries)) if outcome is not None else None,
        **head_values(found, inside),
    )
