"""Comparing: what differs between descriptions of two versions, and whose recent calls a difference touches."""

import json
import re
from collections import defaultdict
from datetime import timedelta
from functools import lru_cache
from typing import Any, NamedTuple

from flask import Blueprint, Response, current_app, request

from tamarack.console.apis.pages import head_values
from tamarack.console.apis.versions import the_version
from tamarack.console.page import environment, render, requires, running
from tamarack.core.comparing.compare import compare, worst
from tamarack.core.comparing.rules import Difference
from tamarack.core.comparing.words import TITLES, as_data, as_markdown, counted_words
from tamarack.core.configuration.model import Api, Configuration, Version
from tamarack.core.text import call_shape
from tamarack.store.documents import queries as documents
from tamarack.store.graph_use import queries as graph_use
from tamarack.store.traffic import overview as watching
from tamarack.web.application import db

pages = Blueprint("comparing", __name__, url_prefix="/apis/<api>/<version>/compare")

LOOKS_BACK = timedelta(days=7)
"""Whose calls are recent."""
RUNNING = "running"
_FIELD = re.compile(r"[_A-Za-z]\w*\.\w+")
"""A field of a graph, in place of an operation."""


class Caller(NamedTuple):
    """An application that called an operation lately."""

    organization: str
    application: str
    calls: int


class Broken(NamedTuple):
    """A version that runs, and whose description changes in the draft."""

    api: Api
    version: Version
    differences: list[Difference]

    @property
    def worst(self) -> str:
        return worst(self.differences)

    @property
    def words(self) -> str:
        return counted_words(self.differences)


@lru_cache(maxsize=64)
def _compared(before: str, after: str, engine: int) -> tuple[Difference, ...]:
    trees = [documents.document_tree(db(), sha256) for sha256 in (before, after)]
    if not all(trees):
        raise LookupError("a description that was not read yet is compared later, and not remembered as empty")
    return tuple(compare(*trees))


def compared(before: str, after: str) -> list[Difference]:
    """The differences between two documents by their SHA-256; none where either is not there."""
    if not before or not after or before == after:
        return []
    try:
        return list(_compared(before, after, id(current_app.extensions["tamarack_engine"])))
    except LookupError:
        return []


def broken(live: Configuration, draft: Configuration) -> list[Broken]:
    """The versions that run whose descriptions change, with what that means for callers."""
    found = []
    for api in draft.apis:
        there = live.api(api.name)
        for version in api.versions:
            was = there.version(version.version) if there is not None else None
            if was is None or was.state == "draft" or version.state == "draft" or was.document == version.document:
                continue
            differences = compared(was.document, version.document)
            if differences:
                found.append(Broken(api, version, differences))
    return found


def callers_of(where: str, api: str, version: str) -> dict[str, list[Caller]]:
    """Who called each operation of a version lately, by the operation's shape."""
    span = watching.until_now(LOOKS_BACK, {"environment": where, "api": api, "version": version})
    found: dict[str, list[Caller]] = defaultdict(list)
    for busy in watching.busiest(db(), span, ("application", "organization", "operation"), most=500):
        application, organization, operation = busy.name
        found[call_shape(operation)].append(Caller(organization, application, busy.totals.calls))
    return found


def difference_values(api: str, before: str, differences: list[Difference]) -> dict[str, Any]:
    """What a list of differences shows, with who called lately what breaks; `before` is the version they are from."""
    callers = callers_of(environment(), api, before) if worst(differences) == "breaking" else {}
    breaking = [one.call for one in differences if one.verdict == "breaking"]
    touched = {call: callers.get(call_shape(call), []) for call in breaking}
    for field in dict.fromkeys(call for call in breaking if _FIELD.fullmatch(call)):
        users = graph_use.callers_of(db(), environment(), api, before, field, LOOKS_BACK.days)
        touched[field] = [Caller(one.organization, one.application, one.calls) for one in users]
    return {
        "differences": differences,
        "titles": TITLES,
        "words": counted_words(differences),
        "touched": touched,
        "days": LOOKS_BACK.days,
    }


@pages.get("/")
@requires("see")
def page(api: str, version: str) -> Any:
    """The differences from another description to this version's."""
    found, inside = the_version(api, version)
    where = environment()
    there = running(where)[1].api(api)
    was = there.version(version) if there is not None else None
    others = [one for one in found.versions if one.version != version]
    choices = [(one.version, f"version {one.version}") for one in others]
    if was is not None:
        choices.append((RUNNING, f"what runs in {where}"))
    against = request.args.get("against", choices[0][0] if choices else "")
    before = was if against == RUNNING else found.version(against)
    differences = compared(before.document, inside.document) if before is not None else []
    names = (f"{found.title} {before.version if before is not None else ''}".strip(), f"{found.title} {version}")
    form = request.args.get("form", "")
    if form in ("markdown", "json"):
        text = as_markdown(*names, differences) if form == "markdown" else json.dumps(
            as_data(*names, differences), indent=2, ensure_ascii=False)  # fmt: skip
        kind, ending = ("text/markdown", "md") if form == "markdown" else ("application/json", "json")
        name = f"{api}-{before.version if before is not None else 'none'}-to-{version}.{ending}"
        return Response(text, mimetype=kind, headers={"Content-Disposition": f'attachment; filename="{name}"'})
    return render(
        "life_cycle/compare.html",
        tab="compare",
        choices=choices,
        against=against,
        before=before,
        described=bool(inside.document and before is not None and before.document),
        **difference_values(api, before.version if before is not None else "", differences),
        **head_values(found, inside),
    )
