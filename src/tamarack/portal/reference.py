"""An API's page: what it is, its reference, how to call it, and subscribing to it without leaving."""

import re
from functools import lru_cache
from typing import Any

from flask import Blueprint, Response, abort, current_app, request, session
from markupsafe import Markup, escape

from tamarack.core import pricing
from tamarack.core.configuration import Api, Operation, Version
from tamarack.core.credential_examples import KEY_PLACE, credential_example
from tamarack.core.effective import held, in_force, is_open
from tamarack.core.examples import ExampleCall, as_curl, as_javascript, as_python
from tamarack.core.explain import explain
from tamarack.core.openapi.read import describe
from tamarack.core.openapi.reference import OperationView, lay_out
from tamarack.portal.page import (
    acting,
    back_to,
    done,
    me,
    my_application,
    my_organization,
    offered,
    open_environments,
    render,
    requires,
    shown_version,
)
from tamarack.store import credentials, drafting, subscribers, subscribing
from tamarack.store.application import Application
from tamarack.store.credentials import Wanted
from tamarack.store.subscribing import NotPossible
from tamarack.web.application import db, settings_of
from tamarack.web.once import NEW_KEYS

pages = Blueprint("reference", __name__, url_prefix="/apis/<api>/<version>")


def shown_credential(api: Api, version: Version, operation: Operation | None, key: str) -> ExampleCall | None:
    """How an operation's caller shows its credential, or None where it is open or closed."""
    rows = held(offered("production"), api, version, operation)
    if is_open(rows):
        return None
    return credential_example([row.policy for row in in_force(rows)], key if key != KEY_PLACE else "")


@lru_cache(maxsize=32)
def _views(document: str, engine: int) -> tuple[str, tuple[OperationView, ...]]:
    text = drafting.document_text(db(), document)
    described = describe(text) if text is not None else None
    if described is None:
        return "", ()
    info = described.document.get("info", {})
    return str(info.get("description") or ""), tuple(lay_out(described.document))


def views(version: Version) -> tuple[str, list[OperationView]]:
    """The document's own introduction, and the operations that are published, described or bare."""
    introduction, described = _views(version.document, id(current_app.extensions["tamarack_engine"]))
    by_call = {view.call: view for view in described}
    found = []
    for operation in version.operations:
        view = by_call.get(operation.call)
        if view is None:
            view = OperationView(
                operation.call, operation.method, operation.path, operation.summary, "", (), deprecated=False
            )
        found.append(view)
    return introduction, found


def example_call(
    api: Api, version: Version, view: OperationView, environment: str = "production", key: str = KEY_PLACE
) -> ExampleCall:
    """A call of an operation as a reader would make it."""
    shown = shown_credential(api, version, version.operation(view.call), key)
    address = settings_of(current_app).gateway_url(environment)
    path = view.example_path().replace("/*", "/")
    url = f"{address}{version.base_path}{path if path != '/' else ''}"
    headers = dict(shown.headers) if shown is not None else {}
    if shown is not None and shown.url:
        url += f"{'&' if '?' in url else '?'}{shown.url}"
    method = "GET" if view.method == "any" else view.method.upper()
    body = view.body.example if view.body is not None else ""
    if body and view.body is not None:
        headers["content-type"] = view.body.media
    return ExampleCall(method, url, headers, body, shown.basic if shown is not None else None)


def paragraphs(text: str) -> Markup:
    """Plain text as paragraphs, escaped."""
    parts = [part.strip() for part in re.split(r"\n\s*\n", text) if part.strip()]
    return Markup("").join(Markup("<p>{}</p>").format(escape(part)) for part in parts)


@pages.get("/")
def page(api: str, version: str) -> Any:
    found, inside = shown_version(api, version)
    configuration = offered("production")
    introduction, operations = views(inside)
    tags: dict[str, list[OperationView]] = {}
    for view in operations:
        tags.setdefault(view.tags[0] if view.tags else "Operations", []).append(view)
    examples = {
        view.call: {"curl": as_curl(call), "Python": as_python(call), "JavaScript": as_javascript(call)}
        for view in operations
        for call in (example_call(found, inside, view),)
    }
    rules = {operation.call: explain(configuration, found, inside, operation)[:-1] for operation in inside.operations}
    return render(
        "reference/page.html",
        api=found,
        version=inside,
        introduction=paragraphs(introduction),
        tags=tags,
        examples=examples,
        rules=rules,
        products=configuration.products_with(api),
        open_calls={o.call for o in inside.operations if is_open(held(configuration, found, inside, o))},
        subscribed=_subscribed(api),
        address=settings_of(current_app).gateway_url("production"),
    )


def _subscribed(api: str) -> list[tuple[Any, Any]]:
    """The own applications that are subscribed to an API, with their subscriptions."""
    if me() is None:
        return []
    products = {product.name for product in offered("production").products_with(api)}
    return [
        (application, subscription)
        for application in subscribers.applications_of(db(), my_organization())
        for subscription in subscribers.subscriptions_of(db(), application)
        if subscription.product in products and subscription.state != "ended"
    ]


@pages.get("/document")
def document(api: str, version: str) -> Any:
    """The OpenAPI document as it was brought in."""
    _, inside = shown_version(api, version)
    text = drafting.document_text(db(), inside.document)
    if text is None:
        abort(404, "This version has no document.")
    json = text.lstrip().startswith("{")
    ending, media = ("json", "application/json") if json else ("yaml", "application/yaml")
    fields = {"Content-Disposition": f'attachment; filename="{api}-{version}.{ending}"'}
    return Response(text, mimetype=media, headers=fields)


@pages.get("/subscribe")
@requires("subscribe")
def subscribe_form(api: str, version: str) -> Any:
    return _subscribe_page(api, version, dict(request.args), {})


def _subscribe_page(api: str, version: str, typed: dict[str, str], errors: dict[str, str]) -> str:
    found, inside = shown_version(api, version)
    environments = open_environments(api)
    plans = [
        (f"{product.name}/{plan.name}", product, plan)
        for product in offered("production").products_with(api)
        for plan in product.plans
    ]
    return render(
        "reference/subscribe.html",
        api=found,
        version=inside,
        plans=plans,
        prices={key: pricing.in_words(plan) for key, _, plan in plans},
        environments=environments,
        applications=subscribers.applications_of(db(), my_organization()),
        typed=typed,
        errors=errors,
    )


@pages.post("/subscribe")
@requires("subscribe")
def subscribe(api: str, version: str) -> Any:
    """Subscribe, making the application on the way where a new one is named, and make its first key."""
    found, _ = shown_version(api, version)
    typed = {
        name: request.form.get(name, "").strip() for name in ("application", "title", "plan", "environment", "message")
    }
    environment = typed["environment"]
    if environment not in open_environments(api):
        errors = {"environment": f"{found.title} is not offered in {environment!r}; choose another"}
        return _subscribe_page(api, version, typed, errors), 422
    product, _, plan = typed["plan"].partition("/")
    try:
        if typed["application"]:
            application = my_application(typed["application"])
        else:
            application = subscribing.make_application(db(), acting(), my_organization(), typed["title"])
        subscription = subscribing.subscribe(
            db(), acting(), offered(environment), application, product, plan, environment, typed["message"]
        )
        made = None
        if subscription.state == "active" and not _has_key(application, environment):
            keys = settings_of(current_app).keys.credentials
            made = credentials.make_credential(
                db(), acting(), keys, application, environment, Wanted(label="first key")
            )
    except NotPossible as error:
        db().rollback()
        return _subscribe_page(api, version, typed, {error.field or "plan": str(error)}), 422
    db().commit()
    if made is not None:
        value = {"id": made.credential.id, "value": made.value, "kind": "api-key", "api": api, "version": version}
        session["new_key"] = NEW_KEYS.put(value)
    elif subscription.state == "pending":
        done("Your request is with the platform team. The subscription starts when they approve it.")
    else:
        done(f"{application.title} is subscribed.")
    return back_to("applications.page", id=application.id)


def _has_key(application: Application, environment: str) -> bool:
    keys = subscribers.credentials_of(db(), application)
    return any(key.environment == environment and key.revoked_at is None for key in keys)
