"""Bringing in an API: from an OpenAPI document (file, paste or address), or as a bare backend passed through."""

from typing import Any

from flask import Blueprint, current_app, request
from pydantic import ValidationError

from tamarack.console.page import acting, back_to, done, draft, render, requires
from tamarack.core.configuration.model import Api, Operation, Version, check
from tamarack.core.openapi.read import Description, describe
from tamarack.core.types import problems_of
from tamarack.store.applications.changes import slug
from tamarack.store.draft import queries as drafting
from tamarack.web.application import db, settings_of
from tamarack.web.outgoing.asking import NotReached, fetch_text

pages = Blueprint("imports", __name__, url_prefix="/apis/new")

FIELDS = ("source", "text", "address", "title", "name", "version", "base_path", "backend", "summary", "owner", "into")


@pages.get("/")
@requires("edit")
def form() -> Any:
    return _page({"source": "document"}, None, {})


@pages.post("/")
@requires("edit")
def bring_in() -> Any:
    """Read the document and show what was understood; save it when asked to, if it can be."""
    typed = {name: request.form.get(name, "") for name in FIELDS}
    errors: dict[str, str] = {}
    if request.files.get("file") and not typed["text"].strip():
        try:
            typed["text"] = request.files["file"].read().decode("utf-8")
        except UnicodeDecodeError:
            errors["text"] = "the file is not text in UTF-8; save it as UTF-8 and choose it again"
    if request.form.get("act") == "fetch":
        _fetch(typed, errors)
    described = None
    if typed["source"] == "document" and not errors:
        if typed["text"].strip():
            described = describe(typed["text"].replace("\r\n", "\n"))
            _suggest(typed, described)
        elif request.form.get("act") == "save":
            errors["text"] = "paste a document, choose a file, or give an address"
    if request.form.get("act") == "save" and not errors and (described is None or described.usable):
        api = _build(typed, described, errors)
        if api is not None:
            return _save(typed, described, api)
    return _page(typed, described, errors), 422 if errors else 200


def _fetch(typed: dict[str, str], errors: dict[str, str]) -> None:
    try:
        typed["text"] = fetch_text(typed["address"], settings_of(current_app).unreachable)
    except NotReached as error:
        errors["address"] = str(error)


def _suggest(typed: dict[str, str], described: Description) -> None:
    """Fill what was left empty from what the document says."""
    if not described.title:
        return
    typed["title"] = typed["title"].strip() or described.title[:120]
    typed["name"] = typed["name"].strip() or slug(typed["title"])
    typed["version"] = typed["version"].strip() or described.version.partition(".")[0].lstrip("v") or "1"
    typed["base_path"] = typed["base_path"].strip() or f"/{typed['name']}/v{typed['version']}"
    typed["summary"] = typed["summary"].strip() or described.summary


def _build(typed: dict[str, str], described: Description | None, errors: dict[str, str]) -> Api | None:
    if described is not None:
        operations = tuple(Operation(call=one.call, summary=one.summary) for one in described.operations)
    else:
        operations = (
            Operation(call="any /", summary="The backend's root"),
            Operation(call="any /*", summary="Everything below it"),
        )
    existing = draft().api(typed["name"].strip())
    data = {
        "name": typed["name"].strip(),
        "title": typed["title"].strip(),
        "summary": typed["summary"].strip(),
        "owner": typed["owner"].strip() or acting().name,
    }
    inside = {
        "version": typed["version"].strip(),
        "base_path": typed["base_path"].strip(),
        "backend": typed["backend"].strip(),
        "state": "published",
    }
    try:
        version = Version.model_validate({**inside, "operations": operations})
        if existing is not None:
            api = existing.model_copy(update={"versions": (*existing.versions, version)})
        else:
            api = Api.model_validate({**data, "versions": (version,)})
    except ValidationError as error:
        for problem in problems_of(error):
            errors.setdefault(str(problem.path[0]) if problem.path else "title", problem.message)
        return None
    others = tuple(one for one in draft().apis if one.name != api.name)
    for problem in check(draft().model_copy(update={"apis": (*others, api)})):
        if problem.path[:2] == ("apis", len(others)):
            errors.setdefault(str(problem.path[-1]), problem.message)
    return None if errors else api


def _save(typed: dict[str, str], described: Description | None, api: Api) -> Any:
    version = api.versions[-1]
    if described is not None:
        document = drafting.keep_document(db(), typed["text"].replace("\r\n", "\n"))
        version = version.model_copy(update={"document": document})
        api = api.model_copy(update={"versions": (*api.versions[:-1], version)})
    change = drafting.save(db(), acting(), "api", api.name, api, f"brought in {api.title} {version.version}")
    db().commit()
    done(f"{api.title} {version.version} is in the draft, with {len(version.operations)} operations.", change)
    return back_to("apis.page", api=api.name, version=version.version)


def _page(typed: dict[str, str], described: Description | None, errors: dict[str, str]) -> str:
    lines = typed.get("text", "").splitlines()
    existing = draft().api(typed.get("name", ""))
    return render(
        "apis/imports/form.html",
        typed=typed,
        described=described,
        errors=errors,
        lines=lines,
        existing=existing,
        backends=draft().backends,
    )
