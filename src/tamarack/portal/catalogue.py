"""The catalogue: every API that is offered, by what it is for."""

from typing import Any

from flask import Blueprint, request

from tamarack.portal.page import SHOWN_STATES, offered, render

pages = Blueprint("catalogue", __name__)


@pages.get("/")
def index() -> Any:
    search = " ".join(request.args.get("search", "").split())[:100]
    configuration = offered("production")
    entries = []
    for api in configuration.apis:
        versions = [version for version in api.versions if version.state in SHOWN_STATES]
        if not versions:
            continue
        newest = next((v for v in reversed(versions) if v.state == "published"), versions[-1])
        words = " ".join([api.title, api.summary, *(f"{o.call} {o.summary}" for v in versions for o in v.operations)])
        if all(word in words.lower() for word in search.lower().split()):
            entries.append((api, newest, versions, configuration.products_with(api.name)))
    return render("catalogue/index.html", entries=entries, search=search)
