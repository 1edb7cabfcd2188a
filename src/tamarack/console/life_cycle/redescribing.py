"""Another document for a version: what was understood, what it changes for callers, and then in the old one's place."""

from typing import Any

from flask import Blueprint, abort, request

from tamarack.console.apis.handing_in import handed_in
from tamarack.console.apis.imports import reading_values
from tamarack.console.apis.pages import head_values
from tamarack.console.apis.versions import replace_version, the_version
from tamarack.console.life_cycle.comparing import RUNNING, compared, difference_values
from tamarack.console.page import acting, back_to, done, draft, environment, render, requires, running
from tamarack.core.configuration.model import Version, check
from tamarack.core.graphql.handed_in import described as described_anew
from tamarack.core.graphql.schema import SchemaProblem
from tamarack.core.graphql.views.rest_view import ViewProblem
from tamarack.core.life_cycle.redescribed import Redescribed, redescribed
from tamarack.core.openapi.excerpt import excerpt
from tamarack.core.openapi.read import Description
from tamarack.core.openapi.reference import outline
from tamarack.store.documents import queries as documents
from tamarack.store.draft import queries as drafting
from tamarack.web.application import db

pages = Blueprint("redescribing", __name__, url_prefix="/apis/<api>/<version>/redescribe")


def _choose(api: str, version: str, typed: dict[str, str], errors: dict[str, str]) -> str:
    found, inside = the_version(api, version)
    return render("life_cycle/redescribe/choose.html", tab="description", typed=typed, errors=errors,
                  **head_values(found, inside))  # fmt: skip


@pages.get("/")
@requires("edit")
def form(api: str, version: str) -> Any:
    return _choose(api, version, {}, {})


@pages.post("/")
@requires("edit")
def hand_over(api: str, version: str) -> Any:
    """Take a document in to be read, to be compared or put in the present one's place."""
    found, inside = the_version(api, version)
    text, typed, errors = handed_in()
    if found.style == "graphql" and not errors:
        try:
            before = documents.document_tree(db(), inside.document) if inside.document else {}
            text = described_anew(text, found.title, inside.version, found.summary, before)
        except ViewProblem as problem:
            errors["text"] = f"{problem}. Change the view, or take it out, under REST view"
            typed["text"] = text
        except SchemaProblem as problem:
            errors["text"] = "; ".join(f"{words} (line {line})" if line else words for words, line in problem.every[:5])
            typed["text"] = text
    if errors:
        return _choose(api, version, typed, errors), 422
    sha256 = documents.ask(db(), text)
    db().commit()
    return back_to("redescribing.document", api=api, version=version, sha256=sha256)


def with_document(inside: Version, sha256: str, described: Description) -> Redescribed:
    """A version with a document that was read."""
    before = [one.call for one in outline(documents.document_tree(db(), inside.document))] if inside.document else []
    return redescribed(inside, sha256, before, [(one.call, one.summary) for one in described.operations])


def _page(api: str, version: str, sha256: str, errors: list[str]) -> str:
    found, inside = the_version(api, version)
    text = documents.document_text(db(), sha256)
    if text is None or documents.reading_of(db(), sha256) is None:
        abort(404, "This document is not here any more; choose it again.")
    described = documents.description_of(db(), sha256)
    values = {"tab": "description", "described": described, "sha256": sha256, **head_values(found, inside)}
    if described is None:
        return render("life_cycle/redescribe/document.html", **values | reading_values(sha256))
    there = running(environment())[1].api(api)
    runs = there.version(version) if there is not None else None
    against = RUNNING if request.args.get("against") == RUNNING and runs is not None else ""
    before = runs if against and runs is not None else inside
    return render(
        "life_cycle/redescribe/document.html",
        **values,
        excerpt=excerpt(text, (problem.line for problem in described.problems)),
        made=with_document(inside, sha256, described) if described.usable else None,
        same=sha256 == inside.document,
        errors=errors,
        against=against,
        runs=runs is not None,
        **difference_values(api, version, compared(before.document, sha256) if described.usable else []),
    )


@pages.get("/<sha256>")
@requires("edit")
def document(api: str, version: str, sha256: str) -> Any:
    """How far reading is, or what was understood and what it changes."""
    return _page(api, version, sha256, [])


@pages.post("/<sha256>")
@requires("edit")
def replace(api: str, version: str, sha256: str) -> Any:
    """Put it in the present document's place; operations that stay keep their policies and answers."""
    found, inside = the_version(api, version)
    described = documents.description_of(db(), sha256)
    if described is None or not described.usable:
        return _page(api, version, sha256, []), 422
    made = with_document(inside, sha256, described)
    changed = replace_version(found, made.version)
    apis = tuple(changed if one.name == api else one for one in draft().apis)
    before = {problem.message for problem in check(draft())}
    wrong = [p.message for p in check(draft().model_copy(update={"apis": apis})) if p.message not in before]
    if wrong:
        return _page(api, version, sha256, wrong), 422
    documents.keep_document(db(), documents.document_text(db(), sha256) or "")
    words = f"described {found.title} {version} anew: {len(made.new)} new, {len(made.gone)} gone"
    change = drafting.save(db(), acting(), "api", api, changed, words)
    db().commit()
    done(f"{found.title} {version} has the new document in the draft.", change)
    return back_to("comparing.page", api=api, version=version)
