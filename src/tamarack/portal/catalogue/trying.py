"""Trying a call from the reference: through a relay that reaches the gateway's nodes and nothing else."""

import time
from base64 import b64encode
from dataclasses import dataclass, field, replace
from typing import Any

from flask import Blueprint, abort, current_app, request
from pydantic import ValidationError

from tamarack.core.carrying.refusals import REASONS, Reason
from tamarack.core.configuration.model import Api, Version
from tamarack.core.documents.json_text import value_of
from tamarack.core.openapi.reference import OperationView
from tamarack.core.trying.bench import BenchAnswer, BenchCall
from tamarack.core.trying.credential_examples import Given, ShownWay
from tamarack.core.trying.examples import ExampleCall
from tamarack.core.trying.filled_in import Missing, call_path, header_lines
from tamarack.core.trying.limits_left import limits_left
from tamarack.core.trying.naming import named_by
from tamarack.core.types import problems_of
from tamarack.portal.catalogue.one_api import shown_credential, subscribed, view_of, ways_in
from tamarack.portal.often import a_node, nobody_answers, often_words
from tamarack.portal.page import acting, me, my_application, offered, render, requires, shown_version
from tamarack.store.applications import sharing
from tamarack.store.applications.tables import Application
from tamarack.web.application import db, environments, settings_of
from tamarack.web.outgoing.sending import send

pages = Blueprint("trying", __name__, url_prefix="/apis/<api>/<version>")

WITH, NOTHING = "with:", "nothing"
"""Who calls, in place of an application: whoever a typed credential of a way names, or nobody."""


@dataclass(slots=True)
class Try:
    """The form of a call: what is in it, and what is wrong with it."""

    values: dict[str, str]
    body: str = ""
    media: str = ""
    environment: str = ""
    caller: str = ""
    """The id of an application, or what to show instead of one."""
    ways: list[ShownWay] = field(default_factory=list)
    """The ways for which a credential can be typed."""
    applications: list[Application] = field(default_factory=list)
    environments: list[str] = field(default_factory=list)
    errors: dict[str, str] = field(default_factory=dict)

    @property
    def reads_token(self) -> bool:
        return any(way.credential == "outside-identity" for way in self.ways)


def blank_try(api: Api, version: Version, view: OperationView) -> Try:
    """The form as it is first shown: the operation's own examples, the reader's first application."""
    person = me()
    applications = list(sharing.applications_seen(db(), person)) if person is not None else []
    values = {
        f"{one.place}.{one.name}": one.example if one.required or one.place == "path" else "" for one in view.parameters
    }
    there = [where for where in environments().on_portal if offered(where).api(api.name) is not None]
    # One that is subscribed here comes first, in the order of the environments: the call should work as it stands.
    ready = [
        (one, sub.environment)
        for one, sub in subscribed(api.name)
        if sub.state == "active" and sub.environment in there
    ]
    ready.sort(key=lambda pair: environments().names.index(pair[1]))
    first = ready[0] if ready else None
    return Try(
        values,
        body=view.body.example if view.body is not None else "",
        media=view.body.content_type if view.body is not None else "",
        environment=first[1] if first is not None else there[0] if there else "",
        caller=first[0].id if first is not None else applications[0].id if applications else NOTHING,
        ways=[one for one in ways_in(api, version, version.operation(view.call)) if one.shown.place != "certificate"],
        applications=applications,
        environments=there,
    )


@pages.post("/try")
@requires("see")
def run(api: str, version: str) -> Any:
    """Send the call that was filled in, and show what came back."""
    found, inside = shown_version(api, version)
    operation = inside.operation(request.form.get("call", ""))
    person = me()
    if operation is None or person is None:
        abort(404, "There is no such operation.")
    view = view_of(inside, operation)
    trying = blank_try(found, inside, view)
    trying.values = {name: text.strip() for name, text in request.form.items() if "." in name}
    trying.body, trying.media = request.form.get("body", ""), request.form.get("media", "")
    trying.environment, trying.caller = request.form.get("environment", ""), request.form.get("caller", NOTHING)
    if trying.environment not in trying.environments:
        abort(400, f"{trying.environment!r} is not an environment that this API runs in.")
    as_nobody = trying.caller in (NOTHING, "") or trying.caller.startswith(WITH)
    application = "" if as_nobody else my_application(trying.caller).id
    try:
        path = call_path(inside.base_path, view, trying.values)
        lines = header_lines(view, trying.values, trying.media if trying.body else "")
        typed = {line.partition(":")[0].lower() for line in lines}
        named = named_by(found, inside, view).items()
        lines += [f"{name}: {value}" for name, value in named if name not in typed]
        shown = _shown(found, inside, view.call, trying)
        lines += [f"{name}: {value}" for name, value in shown.headers.items()] if shown is not None else []
        if shown is not None and shown.url:
            path += f"{'&' if '?' in path else '?'}{shown.url}"
        method = "GET" if view.method == "any" else view.method.upper()
        call = BenchCall.model_validate(
            {"method": method, "path": path, "headers": lines, "body": trying.body, "application": application}
        )
    except Missing as error:
        trying.errors[error.name] = str(error)
        return render("catalogue/reference/answer.html", errors=trying.errors, answer=None), 422
    except ValidationError as error:
        errors = {str(one.path[0]) if one.path else "": one.message for one in problems_of(error)}
        return render("catalogue/reference/answer.html", errors=errors, answer=None), 422
    if words := often_words(person.id, time.monotonic()):
        return render("catalogue/reference/answer.html", errors={"": words}, answer=None), 422
    node = a_node(trying.environment)
    key = settings_of(current_app).keys.raw("bench")
    answer = (
        send(call, node, key, acting().name, vouched=bool(application))
        if node is not None
        else BenchAnswer(problem=nobody_answers(trying.environment))
    )
    return render(
        "catalogue/reference/answer.html",
        errors={},
        answer=answer,
        call=call,
        environment=trying.environment,
        left=limits_left(answer.headers),
        reason=_reason(answer),
        asked={"api": api, "version": version, "operation": view.call},
    )


def _shown(api: Api, version: Version, call: str, trying: Try) -> ExampleCall | None:
    """The credential that was typed, in its place; a client's as `id:secret`. None where none is shown."""
    way = next((one for one in trying.ways if f"{WITH}{one.name}" == trying.caller), None)
    key = request.form.get(f"typed:{way.name}", "").strip() if way is not None else ""
    if way is None or not key:
        return None
    shown = shown_credential(api, version, version.operation(call), Given(key, way.credential), way.name)
    if shown is not None and shown.basic is not None:
        signed_in = b64encode(":".join(shown.basic).encode()).decode()
        return replace(shown, basic=None, headers={**shown.headers, "authorization": f"Basic {signed_in}"})
    return shown


def _reason(answer: BenchAnswer) -> Reason | None:
    """The gateway's own reason where it refused the call (problem details, RFC 9457)."""
    kind = next((value for name, value in answer.headers if name == "content-type"), "")
    if not kind.startswith("application/problem+json"):
        return None
    try:
        said = value_of(answer.body)
    except ValueError:
        return None
    return REASONS.get(str(said.get("reason"))) if isinstance(said, dict) else None
