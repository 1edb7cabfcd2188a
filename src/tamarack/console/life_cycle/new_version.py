"""A new version of an API, as a copy of one that is there."""

from typing import Any

from flask import Blueprint, request
from pydantic import ValidationError

from tamarack.console.apis.imports import MOCK
from tamarack.console.apis.versions import the_version
from tamarack.console.page import acting, back_to, done, draft, render, requires
from tamarack.core.configuration.model import Api, Version, check
from tamarack.core.life_cycle.new_version import copy_of, next_base_path, next_label
from tamarack.core.types import problems_of
from tamarack.store.draft import queries as drafting
from tamarack.web.application import db

pages = Blueprint("new_version", __name__, url_prefix="/apis/<api>/<version>/new-version")

FIELDS = ("label", "base_path", "backend", "with_policies", "with_answers")


@pages.get("/")
@requires("edit")
def form(api: str, version: str) -> Any:
    """Ask what the new version is called, and where it stands."""
    found, inside = the_version(api, version)
    label = next_label(found)
    typed = {"label": label, "base_path": next_base_path(found, inside, label), "backend": inside.backend or MOCK,
             "with_policies": "yes", "with_answers": "yes"}  # fmt: skip
    return _page(found, inside, typed, {})


def _page(found: Api, inside: Version, typed: dict[str, str], errors: dict[str, str]) -> str:
    return render(
        "life_cycle/new_version.html", api=found, version=inside, typed=typed, errors=errors, backends=draft().backends
    )


@pages.post("/")
@requires("edit")
def make(api: str, version: str) -> Any:
    """Make it, in the draft."""
    found, inside = the_version(api, version)
    typed = {name: request.form.get(name, "").strip() for name in FIELDS}
    errors: dict[str, str] = {}
    made, whole = None, found
    try:
        on_mocks = typed["backend"] == MOCK
        chosen = (typed["with_policies"] == "yes", typed["with_answers"] == "yes")
        made = copy_of(inside, typed["label"], typed["base_path"], typed["backend"], on_mocks, *chosen)
        whole = found.model_copy(update={"versions": (*found.versions, made)})
    except ValidationError as error:
        for problem in problems_of(error):
            errors.setdefault(_field_of(problem.path), problem.message)
    if made is not None:
        place = next(n for n, one in enumerate(draft().apis) if one.name == api)
        apis = tuple(whole if one.name == api else one for one in draft().apis)
        known = set(check(draft()))
        for problem in check(draft().model_copy(update={"apis": apis})):
            if problem.path[:2] == ("apis", place) and problem not in known:
                errors.setdefault(_field_of(problem.path), problem.message)
        if not typed["backend"] and not errors:
            errors["backend"] = "choose the backend that answers its calls, or mocks until there is one"
    if errors or made is None:
        return _page(found, inside, typed, errors), 422
    if request.form.get("act") == "check":
        return _page(found, inside, typed, {})
    said = f"made {found.title} {made.version} as a copy of {version}"
    change = drafting.save(db(), acting(), "api", api, whole, said)
    db().commit()
    done(
        f"{found.title} {made.version} is a draft now, a copy of version {version}. Nothing of it is rolled out yet.",
        change,
    )
    return back_to("apis.description", api=api, version=made.version)


def _field_of(path: tuple[str | int, ...]) -> str:
    """The field of the form that a problem belongs to; "" for what no field holds."""
    named = next((part for part in reversed(path) if part in ("version", "base_path", "backend")), "")
    return "label" if named == "version" else str(named)
