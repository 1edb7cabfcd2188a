"""The palette: finding an API, an operation, a caller, a page or a call by its id."""

from typing import Any, NamedTuple

from flask import Blueprint, render_template, request, url_for

from tamarack.console.page import draft, requires
from tamarack.store.applications import queries as subscribers
from tamarack.store.traffic import overview as watching
from tamarack.web.application import db

pages = Blueprint("finding", __name__)

MOST = 12

_PAGES = (
    ("Overview", "overview.front"),
    ("APIs", "apis.index"),
    ("Bring in an API", "imports.form"),
    ("Backends", "backends.index"),
    ("Plans", "plans.index"),
    ("Organizations", "subscribers.index"),
    ("People", "subscriber_lists.people"),
    ("Applications", "subscriber_lists.applications"),
    ("Subscriptions", "subscriber_lists.subscriptions"),
    ("Requests", "requests.index"),
    ("Notices to developers", "announcements.index"),
    ("The portal's look", "portal_look.page"),
    ("Traffic", "traffic.overview"),
    ("Calls", "traffic.calls"),
    ("Explore the traffic", "exploring.page"),
    ("Find a call", "traces.find"),
    ("Traces", "traces.index"),
    ("Secrets", "secrets.index"),
    ("Keys and key sets", "signing.index"),
    ("Nodes and rollouts", "nodes.index"),
    ("Environments", "environments.index"),
    ("Compare environments", "comparing_environments.page"),
    ("Review and roll out", "rollouts.review"),
    ("Settings", "team.people"),
)


class Found(NamedTuple):
    """One thing found: its words, what it is, and where it leads."""

    title: str
    what: str
    href: str


@pages.get("/find")
@requires("see")
def find() -> Any:
    search = request.args.get("q", "").strip()[:100]
    return render_template("finding/results.html", found=_find(search)[:MOST], search=search)


def _find(search: str) -> list[Found]:
    wanted = search.lower()
    found: list[Found] = []
    if len(wanted) >= 16 and all(letter in "0123456789abcdef" for letter in wanted):
        call = watching.find_call(db(), wanted)
        if call is not None:
            return [Found(f"{call.method} {call.path}", f"call, {call.status}", url_for("traffic.call", id=call.id))]
    for api in draft().apis:
        for version in api.versions:
            target: dict[str, Any] = {"api": api.name, "version": version.version}
            if wanted in f"{api.title} {version.version} {api.name}".lower():
                title = f"{api.title} {version.version}"
                found.append(Found(title, f"API at {version.base_path}", url_for("apis.page", **target)))
            for operation in version.operations:
                if wanted and wanted in f"{operation.call} {operation.summary}".lower():
                    href = url_for("apis.page", **target, operation=operation.call)
                    found.append(Found(operation.call, f"operation of {api.title} {version.version}", href))
    for backend in draft().backends:
        if wanted and wanted in backend.name:
            found.append(Found(backend.name, "backend", url_for("backends.page", name=backend.name)))
    if wanted:
        for application, organization in subscribers.applications_matching(db(), wanted):
            href = url_for("subscribers.application", id=application.id)
            found.append(Found(application.title, f"application of {organization.title}", href))
        for owner, _, _ in subscribers.organizations(db(), wanted)[:5]:
            href = url_for("subscribers.organization", name=owner.name)
            found.append(Found(owner.title, "organization", href))
    found += [Found(title, "page", url_for(name)) for title, name in _PAGES if wanted in title.lower()]
    return found
