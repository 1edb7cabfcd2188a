"""Backends: the services that are published, their targets, and the test of the connection."""

from typing import Any

from flask import Blueprint, abort, current_app, request
from pydantic import ValidationError

from tamarack.console.page import acting, back_to, done, draft, refuse, render, requires
from tamarack.core.configuration.model import Backend
from tamarack.core.types import problems_of
from tamarack.store.audit import log as auditing
from tamarack.store.draft import queries as drafting
from tamarack.store.draft.queries import EditedMeanwhile
from tamarack.store.secrets import queries as secret_store
from tamarack.web.application import db, settings_of
from tamarack.web.numbers import whole
from tamarack.web.outgoing.asking import probe

pages = Blueprint("backends", __name__, url_prefix="/backends")


def _find(name: str) -> Backend:
    backend = draft().backend(name)
    if backend is None:
        abort(404, f"The draft holds no backend {name}.")
    return backend


def _used_by(name: str) -> list[tuple[str, str, str]]:
    return [
        (api.name, version.version, api.title)
        for api in draft().apis
        for version in api.versions
        if version.backend == name
    ]


def _secrets() -> list[str]:
    return [one.name for one in secret_store.all_secrets(db())]


def _shown(backend: Backend | None) -> dict[str, Any]:
    """What the form shows of a backend; targets one a line, with the environments they serve behind."""
    if backend is None:
        return {"name": "", "summary": "", "targets": "", "connect_timeout_ms": "2000", "read_timeout_ms": "30000",
                "verify_tls": True, "sign_in": "none", "sign_in_name": "", "sign_in_secret": ""}  # fmt: skip
    lines = [" ".join((target.address, *target.environments)) for target in backend.targets]
    return {
        "name": backend.name,
        "summary": backend.summary,
        "targets": "\n".join(lines),
        "connect_timeout_ms": str(backend.connect_timeout_ms),
        "read_timeout_ms": str(backend.read_timeout_ms),
        "verify_tls": backend.verify_tls,
        "sign_in": backend.sign_in,
        "sign_in_name": backend.sign_in_name,
        "sign_in_secret": backend.sign_in_secret,
    }


def _read(name: str) -> tuple[Backend | None, dict[str, Any], dict[str, str]]:
    typed: dict[str, Any] = {field: request.form.get(field, "").strip() for field in _shown(None)}
    typed["verify_tls"] = "verify_tls" in request.form
    typed["sign_in"] = typed["sign_in"] or "none"
    targets = []
    for line in typed["targets"].splitlines():
        words = line.split()
        if words:
            targets.append({"address": words[0], "environments": tuple(word.strip(",") for word in words[1:])})
    data = typed | {"targets": targets, "name": name or typed["name"]}
    try:
        return Backend.model_validate(data), typed, {}
    except ValidationError as error:
        errors: dict[str, str] = {}
        for problem in problems_of(error):
            field = str(problem.path[0]) if problem.path else "sign_in"
            line = f"line {problem.path[1] + 1}: " if len(problem.path) > 1 and isinstance(problem.path[1], int) else ""
            message = problem.message
            if field == "targets" and "environments" in problem.path:
                message = f"write the address, then test or production, or nothing for both ({message})"
            elif field == "targets" and not line:
                message = "give at least one address, like http://127.0.0.1:9000"
            errors.setdefault(field, line + message)
        return None, typed, errors


@pages.get("/")
@requires("see")
def index() -> Any:
    used = {backend.name: _used_by(backend.name) for backend in draft().backends}
    return render("backends/index.html", backends=draft().backends, used=used)


@pages.get("/new")
@requires("edit")
def new() -> Any:
    return render("backends/form.html", backend=None, typed=_shown(None), errors={}, steps={}, used=[], revision=0,
                  secrets=_secrets())  # fmt: skip


@pages.get("/<name>")
@requires("see")
def page(name: str) -> Any:
    return _page(_find(name), _shown(_find(name)), {}, {})


def _page(backend: Backend, typed: dict[str, Any], errors: dict[str, str], steps: dict[str, Any]) -> str:
    revision = drafting.revision(db(), "backend", backend.name)
    return render("backends/form.html", backend=backend, typed=typed, errors=errors, steps=steps,
                  used=_used_by(backend.name), revision=revision, secrets=_secrets())  # fmt: skip


@pages.post("/new")
@requires("edit")
def add() -> Any:
    backend, typed, errors = _read("")
    if backend is not None and draft().backend(backend.name) is not None:
        errors["name"] = f"there is a backend {backend.name!r} already; choose another name"
    act = request.form.get("act")
    steps = _test(backend) if backend is not None and act == "test" else {}
    if backend is None or errors or act in ("test", "check"):
        values: dict[str, Any] = {
            "backend": None,
            "typed": typed,
            "errors": errors,
            "steps": steps,
            "used": [],
            "revision": 0,
            "secrets": _secrets(),
        }
        return render("backends/form.html", **values), 422 if errors else 200
    change = drafting.save(db(), acting(), "backend", backend.name, backend, f"added backend {backend.name}", 0)
    db().commit()
    done(f"Backend {backend.name} is in the draft.", change)
    return back_to("backends.page", name=backend.name)


@pages.post("/<name>")
@requires("edit")
def change(name: str) -> Any:
    kept = _find(name)
    backend, typed, errors = _read(name)
    if backend is None:
        return _page(kept, typed, errors, {}), 422
    if request.form.get("act") in ("test", "check"):
        return _page(kept, typed, errors, _test(backend) if request.form["act"] == "test" else {})
    typed_revision = request.form.get("revision", "")
    expected = whole(typed_revision)
    try:
        saved = drafting.save(db(), acting(), "backend", name, backend, f"changed backend {name}", expected)
    except EditedMeanwhile as error:
        db().rollback()
        errors["name"] = str(error)
        return _page(kept, typed, errors, {}), 409
    db().commit()
    done(f"Backend {name} is changed in the draft." if saved else "Nothing was different.", saved)
    return back_to("backends.page", name=name)


def _test(backend: Backend) -> dict[str, Any]:
    """Try every target and note that someone did."""
    settings = settings_of(current_app)
    timeout_s = min(10.0, backend.connect_timeout_ms / 1000 + 3)
    found = {
        target.address: probe(target.address, settings.reach, backend.verify_tls, timeout_s)
        for target in backend.targets
    }
    auditing.record(db(), acting(), "test connection", f"backend {backend.name}", targets=list(found))
    db().commit()
    return found


@pages.post("/<name>/remove")
@requires("edit")
def remove(name: str) -> Any:
    backend = _find(name)
    used = _used_by(name)
    if used:
        names = ", ".join(f"{title} {version}" for _, version, title in used)
        refuse(f"{name} is used by {names}. Choose another backend for them first.")
        return back_to("backends.page", name=name)
    change = drafting.save(db(), acting(), "backend", backend.name, None, f"removed backend {name}")
    db().commit()
    done(f"Backend {name} is removed from the draft.", change)
    return back_to("backends.index")
