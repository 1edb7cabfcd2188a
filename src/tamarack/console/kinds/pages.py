"""Written kinds: listed, written, tried on an example call, saved with what a change touches, and removed."""

import json
import time
from typing import Any

from flask import Blueprint, abort, render_template, request
from pydantic import ValidationError

from tamarack.console.bench.trace_drawing import drawing
from tamarack.console.kinds.typed import TypedKind, example_typed, typed_kind, values_typed
from tamarack.console.page import acting, back_to, done, draft, refuse, render, requires
from tamarack.core.configuration.model import Configuration, check
from tamarack.core.configuration.placed import placed_policies, placements_of
from tamarack.core.told.trace import as_data
from tamarack.core.trying.kind_trial import try_kind
from tamarack.core.types import problems_of
from tamarack.core.written.expressions import VARIABLES
from tamarack.core.written.kind import LEVELS, WrittenKind
from tamarack.core.written.parameters import RULES, TYPES
from tamarack.store.draft import queries as drafting
from tamarack.store.draft.queries import EditedMeanwhile
from tamarack.web.application import db
from tamarack.web.numbers import whole

pages = Blueprint("kinds", __name__, url_prefix="/kinds")


@pages.get("/")
@requires("see")
def index() -> Any:
    placed = [policy.kind for _, policy in placed_policies(draft())]
    return render(
        "kinds/index.html", kinds=draft().kinds, placed={one.kind: placed.count(one.kind) for one in draft().kinds}
    )


def _kind(name: str) -> WrittenKind:
    found = draft().kind(name)
    if found is None:
        abort(404, f"The draft holds no written kind {name}.")
    return found


def _page(kind: WrittenKind | None, typed: TypedKind, errors: dict[str, str], **values: Any) -> str:
    placed = placements_of(draft(), kind.kind) if kind is not None else []
    return render(
        "kinds/page.html",
        kind=kind,
        typed=typed,
        errors=errors,
        placed=placed,
        for_apis=[("", "all APIs"), *((api.name, f"{api.title} alone") for api in draft().apis)],
        levels=LEVELS,
        types=TYPES,
        rules=RULES,
        variables=VARIABLES,
        revision=drafting.revision(db(), "kind", kind.name) if kind is not None else 0,
        history=drafting.history(db(), "kind", kind.name, 8) if kind is not None else [],
        example=example_typed(),
        **values,
    )


@pages.get("/new")
@requires("edit")
def new() -> Any:
    return _page(None, TypedKind.blank(), {})


@pages.get("/<name>")
@requires("see")
def page(name: str) -> Any:
    kind = _kind(name)
    return _page(kind, TypedKind.of(kind), {})


def _read(was: WrittenKind | None) -> tuple[WrittenKind | None, TypedKind, dict[str, str]]:
    """What was typed as a kind, and what is wrong with it by the names of fields."""
    typed = typed_kind(was.name if was is not None else "")
    try:
        made = WrittenKind.model_validate(typed.as_data(was.version if was is not None else 1))
    except ValidationError as error:
        return None, typed, typed.errors_of(problems_of(error))
    errors = {}
    if was is None and draft().kind(made.name) is not None:
        errors["name"] = f"there is a kind {made.name!r} already; choose another name, or change that one"
    return (made if not errors else None), typed, errors


@pages.post("/new")
@requires("edit")
def make() -> Any:
    return _save(None)


@pages.post("/<name>")
@requires("edit")
def save(name: str) -> Any:
    return _save(_kind(name))


def _save(was: WrittenKind | None) -> Any:
    made, typed, errors = _read(was)
    if made is None or request.form.get("act") == "check":
        return _page(was, typed, errors), 422 if made is None else 200
    if was is not None and made != was:
        made = made.model_copy(update={"version": was.version + 1})
    after = _with(made)
    before = {problem.message for problem in check(draft())}
    wrong = [problem.message for problem in check(after) if problem.message not in before]
    if wrong:
        return _page(was, typed, {"": f"Not saved, for it is placed: {'; '.join(wrong[:3])}."}), 422
    words = f"wrote the kind {made.title}" if was is None else f"changed the kind {made.title} (version {made.version})"
    try:
        change = drafting.save(db(), acting(), "kind", made.name, made, words, whole(request.form.get("revision", "")))
    except EditedMeanwhile as error:
        db().rollback()
        return _page(was, typed, {"": f"Not saved: {error}."}), 409
    db().commit()
    many = len(placements_of(draft(), made.kind))
    touched = f" It touches {many} placement{'' if many == 1 else 's'}." if many else ""
    done(f"Saved to the draft.{touched}" if change else "Nothing was different.", change)
    return back_to("kinds.page", name=made.name)


def _with(made: WrittenKind) -> Configuration:
    """The draft with a kind as it would become."""
    kinds = (*(kind for kind in draft().kinds if kind.name != made.name), made)
    return draft().model_copy(update={"kinds": kinds})


@pages.post("/<name>/remove")
@requires("edit")
def remove(name: str) -> Any:
    kind = _kind(name)
    placed = placements_of(draft(), kind.kind)
    if placed:
        refuse(f"{kind.title} is placed on {', '.join(placed[:4])}. Take it off there first.")
        return back_to("kinds.page", name=name)
    change = drafting.save(db(), acting(), "kind", name, None, f"removed the kind {kind.title}")
    db().commit()
    done(f"{kind.title} is removed from the draft.", change)
    return back_to("kinds.index")


@pages.post("/try")
@requires("edit")
def trial() -> Any:
    """The kind as it is typed, run on the example call; nothing is saved, and no backend is asked."""
    name = request.form.get("was", "")
    was = draft().kind(name) if name else None
    made, _, errors = _read(was)
    if was is None:
        errors.pop("name", None)
    if made is None:
        return render_template("kinds/trial.html", tried=None, wrong=errors)
    example = example_typed()
    secret = request.form.get("example_secret", "")
    tried, wrong = try_kind(made, values_typed(made), example, secret, time.time(), time.perf_counter_ns)
    trace = drawing(as_data(tried.entries)) if tried is not None else None
    return render_template("kinds/trial.html", tried=tried, wrong=_named(wrong), trace=trace, pretty=_pretty)


def _named(wrong: dict[str, str]) -> dict[str, str]:
    """What is wrong with an example, by what its fields are called."""
    return {name.replace("values.", "parameter ").replace("_", " "): words for name, words in wrong.items()}


def _pretty(text: str) -> str:
    """A body for people: JSON with its lines broken."""
    try:
        return json.dumps(json.loads(text), indent=2, ensure_ascii=False)
    except ValueError:
        return text
