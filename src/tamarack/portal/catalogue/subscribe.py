"""Subscribing without leaving an API's page: an application, made on the way, a plan, and the first key."""

from typing import Any

from flask import Blueprint, current_app, request, session

from tamarack.core.configuration import pricing
from tamarack.core.trying.credential_examples import Given
from tamarack.core.trying.examples import as_curl
from tamarack.portal.catalogue.one_api import example_call, view_of
from tamarack.portal.page import (
    acting,
    back_to,
    done,
    me,
    my_application,
    my_organization,
    open_environments,
    open_to_me,
    reader,
    render,
    requires,
    shown_version,
)
from tamarack.store.applications import changes as subscribing
from tamarack.store.applications import credentials, sharing
from tamarack.store.applications import queries as subscribers
from tamarack.store.applications.credentials import MadeCredential, Wanted
from tamarack.store.applications.tables import Application, Subscription
from tamarack.store.errors import NotPossible
from tamarack.web.application import db, environments, settings_of, wants_part
from tamarack.web.once import NEW_KEYS

pages = Blueprint("subscribe", __name__, url_prefix="/apis/<api>/<version>")


@pages.get("/subscribe")
@requires("subscribe")
def form(api: str, version: str) -> Any:
    return _page(api, version, dict(request.args), {})


def _page(api: str, version: str, typed: dict[str, str], errors: dict[str, str]) -> str:
    found, inside = shown_version(api, version)
    plans = [
        (f"{product.name}/{plan.name}", product, plan)
        for product in open_to_me(environments().live).products_with(api)
        for plan in product.plans
    ]
    return render(
        "catalogue/subscribe/part.html" if wants_part() else "catalogue/subscribe/page.html",
        api=found,
        version=inside,
        plans=plans,
        prices={key: pricing.in_words(plan) for key, _, plan in plans},
        environments=open_environments(api),
        applications=sharing.applications_seen(db(), reader()),
        typed=typed,
        errors=errors,
    )


@pages.post("/subscribe")
@requires("subscribe")
def subscribe(api: str, version: str) -> Any:
    """Subscribe, making the application on the way where a new one is named, and make its first key."""
    found, _ = shown_version(api, version)
    names = ("application", "title", "plan", "environment", "message")
    typed = {name: request.form.get(name, "").strip() for name in names}
    environment = typed["environment"]
    if environment not in open_environments(api):
        errors = {"environment": f"{found.title} is not offered in {environment!r}; choose another"}
        return _page(api, version, typed, errors), 422
    product, _, plan = typed["plan"].partition("/")
    try:
        if typed["application"]:
            application = my_application(typed["application"])
        else:
            application = subscribing.make_application(db(), acting(), my_organization(), typed["title"], maker=me())
        subscription = subscribing.subscribe(
            db(), acting(), open_to_me(environment), application, product, plan, environment, typed["message"]
        )
        made = None
        if subscription.state == "active" and not _has_key(application, environment):
            keys = settings_of(current_app).keys.credentials
            made = credentials.make_credential(
                db(), acting(), keys, application, environment, Wanted(label="first key")
            )
    except NotPossible as error:
        db().rollback()
        return _page(api, version, typed, {error.field or "plan": str(error)}), 422
    db().commit()
    if wants_part():
        return _made(api, version, application, subscription, made)
    if made is not None:
        value = {"id": made.credential.id, "value": made.value, "kind": "api-key", "api": api, "version": version}
        session["new_key"] = NEW_KEYS.put(value)
    elif subscription.state == "pending":
        done("Your request is with the platform team. The subscription starts when they approve it.")
    else:
        done(f"{application.title} is subscribed.")
    return back_to("applications.page", id=application.id)


def _made(
    api: str, version: str, application: Application, subscription: Subscription, made: MadeCredential | None
) -> str:
    """What came of it, in the place of the form: the key, shown this once, in a first call ready to run."""
    found, inside = shown_version(api, version)
    first = next((o for o in inside.operations if o.method == "get" and "{" not in o.path), inside.operations[0])
    given = Given(made.value, made.credential.kind) if made is not None else None
    call = example_call(found, inside, view_of(inside, first), subscription.environment, given)
    return render(
        "catalogue/subscribe/made.html",
        api=found,
        application=application,
        subscription=subscription,
        new_key={"value": made.value, "kind": "api-key", "public": ""} if made is not None else None,
        first_call=as_curl(call),
    )


def _has_key(application: Application, environment: str) -> bool:
    keys = subscribers.credentials_of(db(), application)
    return any(key.environment == environment and key.revoked_at is None for key in keys)
