"""The track of environments, and one environment: made, changed, moved and removed."""

from typing import Any, get_args

from flask import Blueprint, abort, request

from tamarack.console.page import act, acting, back_to, done, pending, render, requires, running
from tamarack.core.configuration.difference import difference
from tamarack.core.environments.environment import Environment, Mark
from tamarack.core.text import in_words
from tamarack.store.audit import log as auditing
from tamarack.store.environments import queries, removing
from tamarack.store.errors import NotPossible
from tamarack.store.nodes import queries as known_nodes
from tamarack.store.portal import search as catalogue
from tamarack.store.rollouts import queries as rolling
from tamarack.web.application import db, environments, gateway_address

pages = Blueprint("environments", __name__, url_prefix="/environments")

MARKS: dict[str, str] = {mark: mark for mark in get_args(Mark)}
_WHO = [("", "platform admins"), ("yes", "platform admins and API owners")]
_FIELDS = ("name", "summary", "mark", "address", "open_to_owners", "on_portal", "before")


@pages.get("")
@requires("see")
def index() -> Any:
    there = environments()
    rows = []
    for one in there.listed:
        rollout, configuration = running(one.name)
        source = there.before(one.name)
        place = there.names.index(one.name)
        rows.append(
            {
                "environment": one,
                "rollout": rollout,
                "source": source,
                "differences": len(difference(configuration, running(source)[1])) if source else 0,
                "earlier": _swapped(place - 1),
                "later": _swapped(place),
                "nodes": known_nodes.nodes(db(), one.name),
                "address": gateway_address(one.name),
                "versions": sum(len(api.versions) for api in configuration.apis),
            }
        )
    return render(
        "environments/index.html",
        rows=rows,
        of_draft=len(pending(there.first)),
        subscribed=removing.subscribed(db()),
        is_away=known_nodes.is_away,
    )


def _swapped(place: int) -> str:
    """The order in which the environment at a place and the one after it have changed places; empty where one of them
    is none."""
    names = list(environments())
    if not 0 <= place < len(names) - 1:
        return ""
    names[place : place + 2] = reversed(names[place : place + 2])
    return " ".join(names)


def _typed() -> dict[str, str]:
    return {field: request.form.get(field, "").strip() for field in _FIELDS}


def _read(typed: dict[str, str], name: str) -> Environment:
    return queries.read(
        {
            "name": name,
            "summary": typed["summary"],
            "mark": typed["mark"],
            "address": typed["address"],
            "open_to_owners": typed["open_to_owners"] == "yes",
            "on_portal": typed["on_portal"] == "yes",
        }
    )


def _form(typed: dict[str, str], errors: dict[str, str]) -> str:
    return render(
        "environments/new.html",
        typed=typed,
        errors=errors,
        marks=MARKS,
        who=_WHO,
        places=[(one, f"before {one}") for one in environments()],
    )


@pages.get("/new")
@requires("environments")
def new() -> Any:
    used = {one.mark for one in environments().listed}
    free = next((mark for mark in MARKS if mark not in used), "ring")
    return _form({"mark": free, "before": environments().live}, {})


@pages.post("/new")
@requires("environments")
def make() -> Any:
    typed = _typed()
    try:
        row = queries.make(db(), acting(), _read(typed, typed["name"]), typed["before"])
    except NotPossible as error:
        db().rollback()
        return _form(typed, {error.field or "name": str(error)}), 422
    db().commit()
    done(f"The environment {row.name} is there. Add a node to it, and roll out to it.")
    return back_to("environments.page", name=row.name)


def _environment(name: str) -> Environment:
    found = environments().named(name)
    if found is None:
        abort(404, f"There is no environment {name[:40]!r}; there are {environments().said}.")
    return found


def _page(one: Environment, typed: dict[str, str], errors: dict[str, str]) -> str:
    rollout, configuration = running(one.name)
    return render(
        "environments/page.html",
        one=one,
        typed=typed,
        errors=errors,
        marks=MARKS,
        who=_WHO,
        rollout=rollout,
        configuration=configuration,
        nodes=known_nodes.nodes(db(), one.name),
        is_away=known_nodes.is_away,
        source=environments().before(one.name),
        address=gateway_address(one.name),
        ending=removing.ending(db(), one.name),
        events=auditing.latest(db(), one.name, most=10),
    )


def _shown(one: Environment) -> dict[str, str]:
    """The form as it stands for an environment."""
    return {
        "summary": one.summary,
        "mark": one.mark,
        "address": one.address,
        "open_to_owners": "yes" if one.open_to_owners else "",
        "on_portal": "yes" if one.on_portal else "",
    }


@pages.get("/of/<name>")
@requires("see")
def page(name: str) -> Any:
    one = _environment(name)
    return _page(one, _shown(one), {})


@pages.post("/of/<name>")
@requires("environments")
def change(name: str) -> Any:
    one, typed = _environment(name), _typed()
    try:
        changed = queries.change(db(), acting(), _read(typed, name))
    except NotPossible as error:
        db().rollback()
        return _page(one, typed, {error.field or "summary": str(error)}), 422
    db().commit()
    done(f"{name} is described anew." if changed else f"Nothing of {name} was changed.")
    return back_to("environments.page", name=name)


@pages.post("/order")
@requires("environments")
def put_in_order() -> Any:
    """Put the environments in another order; asks first where another one becomes the live one by that."""
    names = request.form.get("names", "").split()
    there = environments()
    if sorted(names) == sorted(there) and names[-1] != there.live and request.form.get("sure") != "yes":
        now, then = running(there.live)[1], running(names[-1])[1]
        return render("environments/order.html", names=names, live=names[-1], now=now, then=then,
                      subscribed=removing.subscribed(db()))  # fmt: skip
    act(
        lambda: queries.put_in_order(
            db(), acting(), names, lambda live: catalogue.index(db(), rolling.running_configuration(db(), live))
        ),
        lambda: f"The order is {in_words(names, 'then')}.",
    )
    return back_to("environments.index")


@pages.post("/of/<name>/remove")
@requires("environments")
def remove(name: str) -> Any:
    one = _environment(name)
    if request.form.get("typed", "").strip() != name:
        return _page(one, _shown(one), {"typed": f"Type {name}, so that none other is removed."}), 422
    if act(
        lambda: removing.remove(db(), acting(), name),
        f"The environment {name} was removed. Its rollouts and records stay.",
    ):
        return back_to("environments.index")
    return back_to("environments.page", name=name)
