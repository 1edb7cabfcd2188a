"""What each refusal means and what to do: the page that a problem's `type` leads to.

Its `instance` leads there with the operation and the call id, so that the page can say what holds at that very
operation, and show the call as it should have been.
"""

from dataclasses import dataclass
from typing import Any

from flask import Blueprint, abort, request

from tamarack.core.carrying.refusals import REASONS
from tamarack.core.configuration.explain import explain_outside
from tamarack.core.configuration.model import Api, Operation, Version
from tamarack.core.policies.kind import TOKEN_REASONS
from tamarack.core.trying.examples import as_curl
from tamarack.portal.catalogue.one_api import example_call, plans_of_mine, view_of, ways_in
from tamarack.portal.page import me, my_organization, offered_live, render
from tamarack.store.traffic import overview as watching
from tamarack.store.traffic.tables import CallRow
from tamarack.web.application import db

pages = Blueprint("reasons", __name__, url_prefix="/reasons")


@dataclass(frozen=True, slots=True)
class Asked:
    """The operation that was asked for, as the reader may see it, and what of it bears on the reason."""

    api: Api
    version: Version
    operation: Operation
    rules: list[str]
    sources: list[str]
    """Where tokens come from, where the reason is about a token."""
    curl: str
    """The call as it should be; empty where the caller cannot put it right."""


@pages.get("/")
def index() -> Any:
    return render("reasons/index.html", reasons=REASONS.values())


@pages.get("/<code>")
def page(code: str) -> Any:
    reason = REASONS.get(code)
    if reason is None:
        abort(404, f"There is no reason {code}.")
    return render("reasons/page.html", reason=reason, asked=_asked(code), call=_own_call(code))


def _asked(code: str) -> Asked | None:
    """What the link says was asked for; None where it says nothing, or the reader may not see it."""
    configuration = offered_live()
    api = configuration.api(request.args.get("api", ""))
    version = api.version(request.args.get("version", "")) if api is not None else None
    operation = version.operation(request.args.get("operation", "")) if version is not None else None
    if api is None or version is None or operation is None:
        return None
    plans = plans_of_mine(api)
    sentences = explain_outside(configuration, api, version, operation, plans)
    call = example_call(api, version, view_of(version, operation))
    return Asked(
        api,
        version,
        operation,
        [one.text for one in sentences if code in one.reasons],
        [way.source for way in ways_in(api, version, operation) if way.source] if code in TOKEN_REASONS else [],
        as_curl(call) if REASONS[code].by == "caller" else "",
    )


def _own_call(code: str) -> CallRow | None:
    """The very call, where the reader's organization made it."""
    found = watching.find_call(db(), request.args.get("call", "")) if me() is not None else None
    if found is None or found.reason != code or found.organization != my_organization().name:
        return None
    return found
