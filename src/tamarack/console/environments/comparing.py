"""Two environments compared, in words: what they run, and what belongs to them beside that."""

from typing import Any

from flask import Blueprint, abort, request
from sqlmodel import select

from tamarack.console.page import render, requires, running
from tamarack.console.rollouts.pages import file_difference
from tamarack.core.configuration.difference import difference
from tamarack.store.environments import removing
from tamarack.store.nodes import queries as known_nodes
from tamarack.store.secrets import queries as secrets
from tamarack.store.secrets.tables import SecretValue
from tamarack.web.application import db, environments

pages = Blueprint("comparing_environments", __name__, url_prefix="/environments/compare")


@pages.get("")
@requires("see")
def page() -> Any:
    there = environments()
    second = request.args.get("second", there.live)
    first = request.args.get("first", there.before(there.live) or there.live)
    for name in (first, second):
        if name not in there:
            abort(404, f"There is no environment {name[:40]!r}; there are {there.said}.")
    subscribed = removing.subscribed(db())
    sides = [
        {
            "environment": there.named(name),
            "rollout": running(name)[0],
            "nodes": len(known_nodes.nodes(db(), name)),
            "subscriptions": subscribed.get(name, 0),
        }
        for name in (first, second)
    ]
    theirs, ours = running(first)[1], running(second)[1]
    return render(
        "environments/compare.html",
        first=first,
        second=second,
        sides=sides,
        changes=difference(ours, theirs),
        lines=file_difference(ours, theirs, second, first),
        secrets=_secrets(first, second) if first != second else [],
    )


def _secrets(first: str, second: str) -> list[tuple[str, str]]:
    """The secrets that differ between two environments, with how. Values that are there twice may be equal: nobody
    opens them to see."""
    ones, others = (secrets.facts_for(db(), name) for name in (first, second))
    own = set(
        db().exec(select(SecretValue.secret).where(SecretValue.environment.in_([first, second])))  # type: ignore[attr-defined]
    )
    found = []
    for name in sorted({*ones, *others}):
        if name not in others:
            found.append((name, f"is set for {first} and not for {second}"))
        elif name not in ones:
            found.append((name, f"is set for {second} and not for {first}"))
        elif name in own:
            found.append((name, "has a value of its own in one of them or in each"))
    return found
