"""Operations of a version edited in place: added, taken out, called otherwise, described, with other parameters.

The description is kept in step: each edit is an edit of the document too, which can be undone with it.
"""

from dataclasses import replace
from typing import Any

from flask import Blueprint, request
from pydantic import ValidationError

from tamarack.console.apis.pages import head_values
from tamarack.console.apis.versions import replace_version, the_version
from tamarack.console.page import acting, back_to, done, draft, refuse, render, requires
from tamarack.core.configuration.model import METHODS, Api, Operation, Version, check
from tamarack.core.documents.yaml_text import to_yaml
from tamarack.core.graphql.views.rest_view import views_in
from tamarack.core.openapi.editing import (
    KINDS,
    OTHER,
    PLACES,
    NotEditable,
    OperationEdit,
    ParameterEdit,
    describable,
    describes,
    editable,
    edited,
    new_document,
    without,
)
from tamarack.core.openapi.read import describe
from tamarack.core.text import text_problem
from tamarack.core.types import problems_of
from tamarack.store.documents import queries as documents
from tamarack.store.draft import queries as drafting
from tamarack.web.application import db

pages = Blueprint("editing", __name__, url_prefix="/apis/<api>/<version>/operations")

BLANK_ROWS = 2
MOST_ROWS = 64
LONGEST = {"summary": 300, "description": 20_000}


def tree_of(found: Api, inside: Version) -> dict[str, Any]:
    """The version's document; one that begins where it has none."""
    kept = documents.document_tree(db(), inside.document) if inside.document else {}
    return kept or new_document(found.title, inside.version)


def is_unread(inside: Version) -> bool:
    """Whether the version has a document that nobody has read yet: it cannot be kept in step."""
    return bool(inside.document) and not documents.document_tree(db(), inside.document)


def _page(
    found: Api, inside: Version, was: str, edit: OperationEdit | None, errors: dict[str, str], new: bool = False
) -> str:
    return render(
        "life_cycle/operations/page.html",
        tab="description",
        operation=inside.operation(was) if was else None,
        was=was,
        edit=edit,
        new=new,
        errors=errors,
        rows=[*edit.parameters, *[ParameterEdit("", "query", "text")] * BLANK_ROWS] if edit is not None else [],
        kinds=[*KINDS, OTHER],
        places=PLACES,
        methods=METHODS,
        describable=describable(was) if was else True,
        unread=is_unread(inside),
        is_view=bool(was) and was in views_in(tree_of(found, inside)),
        **head_values(found, inside),
    )


@pages.get("/")
@requires("edit")
def page(api: str, version: str) -> Any:
    """An operation to edit; the first where none is chosen."""
    found, inside = the_version(api, version)
    if "new" in request.args or not inside.operations:
        return _page(found, inside, "", OperationEdit(request.args.get("call", "get /")), {}, new=True)
    wanted = inside.operation(request.args.get("operation", "")) or inside.operations[0]
    edit = editable(tree_of(found, inside), wanted.call)
    if not edit.summary:
        edit = OperationEdit(edit.call, wanted.summary, edit.description, edit.deprecated, edit.parameters)
    place, _, name = request.args.get("parameter", "").partition(" ")
    if name and place in PLACES and (place, name) not in {(one.place, one.name) for one in edit.parameters}:
        edit = replace(edit, parameters=(*edit.parameters, ParameterEdit(name, place, "text")))
    return _page(found, inside, wanted.call, edit, {})


def _typed() -> OperationEdit:
    """The operation in the form that was sent; rows without a name, and those ticked to go, are left out."""
    form = request.form
    parameters = []
    for row in range(MOST_ROWS):
        name = form.get(f"name-{row}", "").strip()
        if not name or form.get(f"gone-{row}"):
            continue
        place, _, called = form.get(f"was-{row}", "").partition(" ")
        parameters.append(
            ParameterEdit(
                name,
                form.get(f"place-{row}", "query"),
                form.get(f"kind-{row}", "text"),
                bool(form.get(f"required-{row}")),
                form.get(f"description-{row}", "").strip(),
                (place, called),
            )
        )
    method, path = form.get("method", "get"), form.get("path", "").strip()
    words = {name: form.get(name, "").strip().replace("\r\n", "\n") for name in LONGEST}
    return OperationEdit(
        f"{method} {path}", words["summary"], words["description"], bool(form.get("deprecated")), tuple(parameters)
    )


def _wrong_words(edit: OperationEdit) -> dict[str, str]:
    found = {}
    for name, most in LONGEST.items():
        text = getattr(edit, name)
        if len(text) > most:
            found[name] = f"has {len(text):,} characters; at most {most:,} fit"
        elif text_problem(text):
            found[name] = text_problem(text)
    return found


def _operations(inside: Version, was: str, edit: OperationEdit) -> tuple[Operation, ...]:
    """The operations with one changed, which keeps its policies and answers, or added at the end."""
    changes = {"call": edit.call, "summary": edit.summary}
    if not was:
        return (*inside.operations, Operation.model_validate(changes))
    return tuple(Operation.model_validate(dict(one) | changes) if one.call == was else one for one in inside.operations)


def keep(tree: dict[str, Any]) -> tuple[str, str]:
    """Keep an edited document; returns its SHA-256, and why it cannot be kept (empty where it can)."""
    text = to_yaml(tree, fast=True)
    described = describe(text)
    if not described.usable:
        problem = next(one for one in described.problems if one.severity == "error")
        return "", f"the description would no longer be valid: {problem.path} {problem.message}"
    sha256 = documents.keep_document(db(), text)
    documents.take_in(db(), sha256, described)
    return sha256, ""


def new_problems(found: Api) -> list[str]:
    """What would not fit together any more."""
    apis = tuple(found if one.name == found.name else one for one in draft().apis)
    before = {problem.message for problem in check(draft())}
    return [p.message for p in check(draft().model_copy(update={"apis": apis})) if p.message not in before]


@pages.post("/")
@requires("edit")
def save(api: str, version: str) -> Any:
    """Save an operation as it was typed, and the document with it."""
    found, inside = the_version(api, version)
    was, edit = request.form.get("was", ""), _typed()
    if was and inside.operation(was) is None:
        refuse(f"{found.title} {version} has no operation {was!r} any more; someone else changed it.")
        return back_to("editing.page", api=api, version=version)
    errors = _wrong_words(edit)
    try:
        operations = _operations(inside, was, edit)
    except ValidationError as error:
        errors["call"] = problems_of(error)[0].message
    document = inside.document
    if not errors and describable(edit.call):
        try:
            before = tree_of(found, inside)
            tree = edited(before, was if was and describes(before, was) else "", edit)
        except NotEditable as error:
            errors[error.field] = str(error)
        else:
            document, wrong = keep(tree)
            errors |= {"call": wrong} if wrong else {}
    if not errors:
        changed = replace_version(found, inside.model_copy(update={"document": document, "operations": operations}))
        misfits = new_problems(changed)
        errors |= {"call": misfits[0]} if misfits else {}
    if errors:
        db().rollback()
        return _page(found, inside, was, edit, errors, new=not was), 422
    words = f"edited {edit.call}" if was == edit.call else f"{was} is {edit.call} now" if was else f"added {edit.call}"
    change = drafting.save(db(), acting(), "api", api, changed, f"{words} in {found.title} {version}")
    db().commit()
    done("Saved to the draft, with the description." if change else "Nothing was different.", change)
    return back_to("editing.page", api=api, version=version, operation=edit.call)


@pages.post("/remove")
@requires("edit")
def remove(api: str, version: str) -> Any:
    """Take an operation out, of the document too."""
    found, inside = the_version(api, version)
    call = request.form.get("operation", "")
    if inside.operation(call) is None:
        refuse(f"{found.title} {version} has no operation {call!r} any more.")
        return back_to("editing.page", api=api, version=version)
    document = inside.document
    if document and not is_unread(inside):
        tree = tree_of(found, inside)
        left = without(tree, call)
        document, wrong = (document, "") if left is tree else keep(left)
        if wrong:
            refuse(f"Not removed: {wrong}.")
            return back_to("editing.page", api=api, version=version, operation=call)
    operations = tuple(one for one in inside.operations if one.call != call)
    changed = replace_version(found, inside.model_copy(update={"document": document, "operations": operations}))
    if misfits := new_problems(changed):
        db().rollback()
        refuse(f"Not removed: {misfits[0]}.")
        return back_to("editing.page", api=api, version=version, operation=call)
    change = drafting.save(db(), acting(), "api", api, changed, f"removed {call} of {found.title} {version}")
    db().commit()
    done(f"{call} is removed from the draft, with its part of the description.", change)
    return back_to(
        "rest_views.page" if request.form.get("back") == "views" else "editing.page", api=api, version=version
    )
