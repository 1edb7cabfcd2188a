"""Bringing in an API: from an OpenAPI document (file, paste or address), or as a bare backend passed through.

A document is handed over once and read by the worker, in a process that it cannot harm; its page shows how far that
is, then what was understood, and saves the API under the names that are given to it there.
"""

from typing import Any

from flask import Blueprint, abort, request
from pydantic import ValidationError

from tamarack.console.apis.handing_in import handed_in
from tamarack.console.page import acting, back_to, done, draft, render, requires
from tamarack.core.configuration.backend import Backend, Target
from tamarack.core.configuration.model import Api, Operation, Style, Version, check
from tamarack.core.openapi.excerpt import excerpt
from tamarack.core.openapi.read import Description
from tamarack.core.policies import Policy
from tamarack.core.policies.answer.mock import Mock
from tamarack.core.portal.markdown_words import markdown_words
from tamarack.core.types import problems_of
from tamarack.store.applications.changes import slug
from tamarack.store.columns import now
from tamarack.store.documents import queries as documents
from tamarack.store.draft import queries as drafting
from tamarack.web.application import db
from tamarack.web.words import counted

pages = Blueprint("imports", __name__, url_prefix="/apis/new")

FIELDS = ("title", "name", "version", "base_path", "backend", "address", "summary", "owner")
BARE = (
    Operation(call="any /", summary="The backend's root"),
    Operation(call="any /*", summary="Everything below it"),
)
LONGEST_NAME = 32
"""Characters of a name that is suggested."""
WAITS_LONG_S = 5
"""After this time the page says that nobody has taken the document up."""


@pages.get("/")
@requires("edit")
def form() -> Any:
    return _choose({}, {})


@pages.post("/")
@requires("edit")
def hand_over() -> Any:
    """Take a document in to be read: a file, a text, or what an address answers with."""
    text, typed, errors = handed_in()
    if errors:
        return _choose(typed, errors), 422
    sha256 = documents.ask(db(), text)
    db().commit()
    return back_to("imports.document", sha256=sha256)


def _choose(typed: dict[str, str], errors: dict[str, str]) -> str:
    return render("apis/imports/choose.html", typed=typed, errors=errors, backends=draft().backends)


@pages.get("/bare")
@requires("edit")
def bare() -> Any:
    return _bare({}, {})


@pages.post("/bare")
@requires("edit")
def save_bare() -> Any:
    """Publish a backend as it is."""
    typed = {name: request.form.get(name, "").strip() for name in FIELDS}
    errors: dict[str, str] = {}
    backend = _new_backend([], typed, errors)
    api = build_api(typed, BARE, "", errors, backend)
    return save_api(api, backend) if api is not None else (_bare(typed, errors), 422)


def _bare(typed: dict[str, str], errors: dict[str, str]) -> str:
    return render("apis/imports/bare.html", typed=typed, errors=errors, backends=draft().backends,
                  existing=draft().api(typed.get("name", "")))  # fmt: skip


@pages.get("/<sha256>")
@requires("edit")
def document(sha256: str) -> Any:
    """How far reading is, or what was understood."""
    return _document_page(sha256, {}, {})


@pages.get("/<sha256>/progress")
@requires("edit")
def progress(sha256: str) -> Any:
    """The part of the page that says how far reading is; once it ended, the page is asked for anew."""
    reading = documents.reading_of(db(), sha256) or abort(404, "This document is not here any more.")
    if reading.state == "read":
        return "", 200, {"HX-Refresh": "true"}
    return render("apis/imports/progress.html", **reading_values(sha256))


def reading_values(sha256: str) -> dict[str, Any]:
    """What the part that says how far reading is shows."""
    reading = documents.reading_of(db(), sha256)
    assert reading is not None
    waited = (now() - reading.asked_at).total_seconds()
    late = reading.state == "waiting" and waited > WAITS_LONG_S
    return {"sha256": sha256, "reading": reading, "late": late}


@pages.post("/<sha256>")
@requires("edit")
def save(sha256: str) -> Any:
    """Save the API that a document describes into the draft."""
    described = documents.description_of(db(), sha256)
    if described is None or not described.usable:
        return _document_page(sha256, {}, {}), 422
    typed = {name: request.form.get(name, "").strip() for name in FIELDS}
    errors: dict[str, str] = {}
    operations = tuple(Operation(call=one.call, summary=one.summary) for one in described.operations)
    backend = _new_backend(_new_servers(described), typed, errors)
    api = build_api(typed, operations, sha256, errors, backend)
    if api is None:
        return _document_page(sha256, typed, errors), 422
    documents.keep_document(db(), documents.document_text(db(), sha256) or "")
    return save_api(api, backend)


NEW = "new:"
"""What stands before an address where the backend to save under is a new one."""


def _new_servers(described: Description) -> list[str]:
    """The servers of a document that may become backends: whole addresses that no backend has as a target."""
    known = {target.address for backend in draft().backends for target in backend.targets}
    found = []
    for server in dict.fromkeys(one.rstrip("/") for one in described.servers):
        try:
            target = Target(address=server)
        except ValidationError:
            continue
        if target.address not in known:
            found.append(target.address)
    return found[:8]


MOCK = "@mock"
"""Chosen in place of a backend where there is none yet: mocks answer from the description."""


def _new_backend(servers: list[str], typed: dict[str, str], errors: dict[str, str]) -> Backend | None:
    """The backend to be made with the API: at a server of its document that was chosen, or at the address typed."""
    address = typed["address"]
    if not address:
        address = typed["backend"].removeprefix(NEW)
        if address == typed["backend"] or address not in servers:
            return None
    try:
        target = Target(address=address)
    except ValidationError as error:
        errors["address"] = problems_of(error)[0].message
        return None
    try:
        return Backend(name=free_name(typed["title"]), targets=(target,))
    except ValidationError:  # a title without a letter, say: the title's own error says so
        return None


def free_name(title: str) -> str:
    """A name for a backend that no other has, from the title of its API."""
    taken = {backend.name for backend in draft().backends}
    name = _short(slug(title)) or "backend"
    return next(one for one in (name, *(f"{name}-{n}" for n in range(2, 999))) if one not in taken)


def _document_page(sha256: str, typed: dict[str, str], errors: dict[str, str]) -> str:
    text = documents.document_text(db(), sha256)
    if text is None or documents.reading_of(db(), sha256) is None:
        abort(404, "This document is not here any more; bring it in again.")
    described = documents.description_of(db(), sha256)
    if described is None:
        lines = text.count("\n") + 1
        return render("apis/imports/document.html", described=None, lines=lines, **reading_values(sha256))
    typed = typed or _suggested(described)
    return render(
        "apis/imports/document.html",
        described=described,
        sha256=sha256,
        typed=typed,
        errors=errors,
        lines=text.count("\n") + 1,
        excerpt=excerpt(text, (problem.line for problem in described.problems)),
        existing=draft().api(typed.get("name", "")),
        backends=draft().backends,
        new_servers=_new_servers(described),
    )


def _suggested(described: Description) -> dict[str, str]:
    """Names as the document has them, and the backend that it names as its server."""
    title = described.title[:120] or "Untitled"
    name = _short(slug(title))
    version = described.version.partition(".")[0].lstrip("v") or "1"
    servers = [server.rstrip("/") for server in described.servers]
    behind = next((one.name for one in draft().backends if any(t.address in servers for t in one.targets)), "")
    behind = behind or next((f"{NEW}{one}" for one in _new_servers(described)), "")
    return {"title": title, "name": name, "version": version, "base_path": f"/{name}/v{version}", "backend": behind,
            "summary": markdown_words(described.summary), "owner": ""}  # fmt: skip


def _short(name: str) -> str:
    """A name of whole words, as far as it stays short enough to be typed."""
    words = name.split("-")
    while len(words) > 1 and len("-".join(words)) > LONGEST_NAME:
        words.pop()
    return "-".join(words)[:LONGEST_NAME].rstrip("-")


def build_api(
    typed: dict[str, str],
    operations: tuple[Operation, ...],
    document: str,
    errors: dict[str, str],
    backend: Backend | None = None,
    policies: tuple[Policy, ...] = (),
    style: Style = "rest",
) -> Api | None:
    """The API as it would become, another version of it where there is one of its name; None where it has errors.

    `backend` is one that is made with it, `policies` stand on it from the start.
    """
    if not typed["backend"] and backend is None and not errors:
        errors["backend"] = "choose the backend that answers its calls, or give the address of a new one"
    existing = draft().api(typed["name"])
    data = {name: typed[name] for name in ("name", "title", "summary")} | {"owner": typed["owner"] or acting().name}
    data["style"] = style
    inside: dict[str, Any] = {name: typed[name] for name in ("version", "base_path", "backend")}
    inside["policies"] = policies
    if backend is not None:
        inside["backend"] = backend.name
    elif typed["backend"] == MOCK and document:
        inside |= {"backend": "", "policies": (Mock(),)}
    try:
        version = Version.model_validate(
            {**inside, "state": "published", "document": document, "operations": operations}
        )
        if existing is not None:
            api = existing.model_copy(update={"versions": (*existing.versions, version)})
        else:
            api = Api.model_validate({**data, "versions": (version,)})
    except ValidationError as error:
        for problem in problems_of(error):
            errors.setdefault(_field_of(problem.path), problem.message)
        return None
    others = tuple(one for one in draft().apis if one.name != api.name)
    backends = (*draft().backends, *((backend,) if backend is not None else ()))
    for problem in check(draft().model_copy(update={"apis": (*others, api), "backends": backends})):
        if problem.path[:2] == ("apis", len(others)):
            errors.setdefault(_field_of(problem.path), problem.message)
    return None if errors else api


def _field_of(path: tuple[str | int, ...]) -> str:
    """The field of the form that a problem belongs to; "" for what no field holds."""
    return next((part for part in reversed(path) if isinstance(part, str) and part in FIELDS), "")


def save_api(api: Api, backend: Backend | None = None) -> Any:
    version = api.versions[-1]
    backed = None
    if backend is not None:
        words = f"made the backend {backend.name} for {api.title}"
        backed = drafting.save(db(), acting(), "backend", backend.name, backend, words)
    change = drafting.save(db(), acting(), "api", api.name, api, f"brought in {api.title} {version.version}")
    db().commit()
    made = f" So is its backend {backend.name}; test its connection under Backends." if backend is not None else ""
    many = counted(len(version.operations), "operation")
    done(f"{api.title} {version.version} is in the draft, with {many}.{made}", backed, change)
    return back_to("apis.page", api=api.name, version=version.version)
