"""Answers: what the description documents for an operation, side by side; for mocks, each can be typed anew."""

from typing import Any

from flask import Blueprint, abort, render_template, request
from pydantic import ValidationError

from tamarack.console.apis.pages import head_values
from tamarack.console.apis.versions import replace_version, the_version
from tamarack.console.page import acting, back_to, done, draft, refuse, render, requires
from tamarack.core.configuration.effective import held, in_force
from tamarack.core.configuration.model import Api, Operation, TypedAnswer, Version
from tamarack.core.mocking.documented import DocumentedAnswer, documented_answers, with_typed
from tamarack.core.mocking.fitting import misfits, schema_for
from tamarack.core.policies import kind_of
from tamarack.core.types import problems_of
from tamarack.store.documents import queries as documents
from tamarack.store.draft import queries as drafting
from tamarack.web.application import db
from tamarack.web.numbers import whole

pages = Blueprint("answers", __name__, url_prefix="/apis/<api>/<version>/answers")


def _operation(inside: Version) -> Operation | None:
    called = request.values.get("operation", "")
    if not called:
        return next(iter(inside.operations), None)
    found = inside.operation(called)
    if found is None:
        abort(404, f"Version {inside.version} has no operation {called}.")
    return found


def _tree(inside: Version) -> dict[str, Any]:
    return documents.document_tree(db(), inside.document) if inside.document else {}


def _page(found: Api, inside: Version, operation: Operation | None, **more: Any) -> str:
    tree = _tree(inside)
    answers: list[tuple[DocumentedAnswer, list[str]]] = []
    mocked = False
    if operation is not None:
        documented = documented_answers(tree, operation.call) if tree else []
        for one in with_typed(documented, operation.answers):
            answers.append((one, misfits(tree, operation.call, one.status, one.media, one.body) if one.media else []))
        answers.sort(key=lambda pair: pair[0].status)
        mocked = any(kind_of(row.policy).mocks for row in in_force(held(draft(), found, inside, operation)))
    values = {"typed": None, "error": "", "problems": None} | more
    return render("apis/answers/page.html", tab="answers", operation=operation, answers=answers, described=bool(tree),
                  mocked=mocked, **values, **head_values(found, inside))  # fmt: skip


@pages.get("/")
@requires("see")
def page(api: str, version: str) -> Any:
    found, inside = the_version(api, version)
    return _page(found, inside, _operation(inside))


def _typed() -> dict[str, Any]:
    return {
        "status": request.form.get("status", "").strip(),
        "media": request.form.get("media", "").strip(),
        "name": request.form.get("name", "").strip(),
        "body": request.form.get("body", "").replace("\r\n", "\n"),
    }


@pages.post("/check")
@requires("see")
def check(api: str, version: str) -> Any:
    """Whether what is typed fits the description, said while it is typed."""
    _, inside = the_version(api, version)
    operation = _operation(inside)
    typed = _typed()
    tree = _tree(inside)
    call = operation.call if operation is not None else ""
    status = whole(typed["status"]) or 0
    said = schema_for(tree, call, status, typed["media"]) is not None
    problems = misfits(tree, call, status, typed["media"], typed["body"]) if typed["media"] else []
    return render_template("apis/answers/fits.html", problems=problems, said=said)


@pages.post("/save")
@requires("edit")
def save(api: str, version: str) -> Any:
    """Put an answer that was typed into the draft."""
    found, inside = the_version(api, version)
    operation = _operation(inside)
    if operation is None:
        abort(404, f"{found.title} {version} has no operation.")
    typed = _typed()
    try:
        answer = TypedAnswer.model_validate(typed)
    except ValidationError as error:
        problem = problems_of(error)[0]
        return _page(found, inside, operation, typed=typed, error=f"{problem.field}: {problem.message}"), 422
    key = (answer.status, answer.name, answer.media)
    others = tuple(one for one in operation.answers if (one.status, one.name, one.media) != key)
    return _kept(found, inside, operation, (*others, answer), f"typed the answer {answer.status} of {operation.call}")


@pages.post("/remove")
@requires("edit")
def remove(api: str, version: str) -> Any:
    """Take back what was typed; what the description documents stands again."""
    found, inside = the_version(api, version)
    operation = _operation(inside)
    typed = _typed()
    key = (whole(typed["status"]), typed["name"], typed["media"])
    if operation is None or key not in {(one.status, one.name, one.media) for one in operation.answers}:
        refuse("This answer is not one that was typed here.")
        return back_to("answers.page", api=api, version=version, operation=request.values.get("operation", ""))
    left = tuple(one for one in operation.answers if (one.status, one.name, one.media) != key)
    return _kept(found, inside, operation, left, f"took back the answer {typed['status']} of {operation.call}")


def _kept(found: Api, inside: Version, operation: Operation, answers: tuple[TypedAnswer, ...], words: str) -> Any:
    changed = operation.model_copy(update={"answers": answers})
    operations = tuple(changed if one.call == operation.call else one for one in inside.operations)
    whole_api = replace_version(found, inside.model_copy(update={"operations": operations}))
    change = drafting.save(db(), acting(), "api", found.name, whole_api, words)
    db().commit()
    done("Saved to the draft." if change else "Nothing was different.", change)
    return back_to("answers.page", api=found.name, version=inside.version, operation=operation.call)
