"""Pages that an API's owner writes in Markdown: part of the draft, shown in the portal once rolled out."""

from typing import Any

from flask import Blueprint, abort, request
from pydantic import ValidationError

from tamarack.console.apis.pages import head_values
from tamarack.console.apis.versions import the_version
from tamarack.console.page import acting, back_to, done, refuse, render, requires
from tamarack.core.configuration.model import MOST_PAGES, Api, DocumentationPage, Version
from tamarack.core.types import problems_of
from tamarack.store.documents import queries as documents
from tamarack.store.draft import queries as drafting
from tamarack.web.application import db, environments
from tamarack.web.markdown import MOST_CHARACTERS, to_html

pages = Blueprint("documentation", __name__, url_prefix="/apis/<api>/<version>/documentation")


def _page(found: Api, inside: Version, kept: DocumentationPage | None, typed: dict[str, str],
          errors: dict[str, str]) -> str:  # fmt: skip
    return render(
        "apis/documentation.html",
        tab="pages",
        page=kept,
        typed=typed,
        errors=errors,
        preview=to_html(typed.get("text", "")),
        **head_values(found, inside),
    )


@pages.get("/")
@requires("see")
def page(api: str, version: str) -> Any:
    found, inside = the_version(api, version)
    name = request.args.get("name", "")
    kept = found.page(name)
    if name and kept is None:
        abort(404, f"The draft of {found.title} has no page {name!r}.")
    if kept is None and found.pages and "new" not in request.args:
        kept = found.pages[0]
    text = documents.document_text(db(), kept.document) if kept is not None else ""
    typed = {"name": kept.name, "title": kept.title, "text": text or ""} if kept is not None else {}
    return _page(found, inside, kept, typed, {})


@pages.post("/")
@requires("edit")
def save(api: str, version: str) -> Any:
    """Keep a page in the draft, look at it, move it or take it out."""
    found, inside = the_version(api, version)
    old = found.page(request.form.get("old_name", ""))
    match request.form.get("act", "save"):
        case "remove" if old is not None:
            rest = tuple(one for one in found.pages if one is not old)
            return _keep(found, inside, rest, f"took the page ‘{old.title}’ out of {found.title}", "")
        case "earlier" if old is not None:
            others = [one for one in found.pages if one is not old]
            others.insert(max(0, found.pages.index(old) - 1), old)
            return _keep(found, inside, tuple(others), f"moved the page ‘{old.title}’ of {found.title}", old.name)
    typed = {name: request.form.get(name, "").strip() for name in ("name", "title")}
    typed["text"] = request.form.get("text", "").replace("\r\n", "\n")
    errors: dict[str, str] = {}
    taken = found.page(typed["name"])
    if taken is not None and taken is not old:
        errors["name"] = f"{found.title} has a page {typed['name']!r} already; choose another name"
    if not typed["text"].strip():
        errors["text"] = "is empty; write something, or take the page out"
    if len(typed["text"]) > MOST_CHARACTERS:
        errors["text"] = f"has {len(typed['text']):,} characters; a page has at most {MOST_CHARACTERS:,}"
    if old is None and len(found.pages) >= MOST_PAGES:
        errors["title"] = f"{found.title} has {MOST_PAGES} pages, the most there can be"
    try:
        made = DocumentationPage(name=typed["name"], title=typed["title"], document="")
    except ValidationError as error:
        for problem in problems_of(error):
            errors.setdefault(str(problem.path[0]), problem.message)
    if errors or request.form.get("act") == "preview":
        return _page(found, inside, old, typed, errors), 422 if errors else 200
    made = made.model_copy(update={"document": documents.keep_page(db(), typed["text"])})
    changed = tuple(made if one is old else one for one in found.pages)
    if old is None:
        changed = (*changed, made)
    return _keep(found, inside, changed, f"wrote the page ‘{made.title}’ of {found.title}", made.name)


def _keep(found: Api, inside: Version, changed: tuple[DocumentationPage, ...], summary: str, name: str) -> Any:
    made = found.model_copy(update={"pages": changed})
    change = drafting.save(db(), acting(), "api", found.name, made, summary)
    db().commit()
    if change is None:
        refuse("Nothing was different.")
    else:
        done(
            f"{summary[0].upper()}{summary[1:]}. Developers read it after the next rollout to {environments().live}.",
            change,
        )
    return back_to("documentation.page", api=found.name, version=inside.version, name=name or None)
