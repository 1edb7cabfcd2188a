"""Backends: the services that are published, their targets, and the test of the connection."""

import ssl
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

from flask import Blueprint, abort, current_app, render_template, request
from pydantic import BaseModel, ValidationError

from tamarack.console.page import acting, back_to, done, draft, environment, refuse, render, requires
from tamarack.core.balancing.breaker import BreakerRules
from tamarack.core.balancing.health import HealthRules
from tamarack.core.configuration.backend import Backend, Target
from tamarack.core.configuration.model import Configuration
from tamarack.core.environments.named_in import unknown_environments
from tamarack.core.identity.secret_facts import may_go_to
from tamarack.core.text import in_words
from tamarack.core.types import Problem, problems_of
from tamarack.store.audit import log as auditing
from tamarack.store.draft import queries as drafting
from tamarack.store.draft.queries import EditedMeanwhile
from tamarack.store.errors import NotPossible
from tamarack.store.nodes import queries as known_nodes
from tamarack.store.rollouts.tables import TargetChange
from tamarack.store.rollouts.target_changes import target_changes
from tamarack.store.secrets import queries as secret_store
from tamarack.tls import CannotShow, client_context
from tamarack.web.application import db, environments, settings_of
from tamarack.web.numbers import whole
from tamarack.web.outgoing.asking import probe
from tamarack.web.pictures.target_states import Band, Step, bands

LONGEST, SHORTEST = timedelta(hours=6), timedelta(minutes=10)
"""How far back a backend's page shows how its targets stood, where nodes have run for so long."""
MOST_CHANGES = 20

pages = Blueprint("backends", __name__, url_prefix="/backends")


BREAKER_FIELDS = (
    ("in_a_row", "Failures in a row", "0 for never"),
    ("share", "Or failures in a hundred", "0 for never"),
    ("at_least", "Of at least so many calls", "For the share"),
    ("within_s", "Within seconds", "For the share"),
    ("open_s", "Spared for seconds", "Then a few calls are tried"),
    ("trial_calls", "Calls tried at a time", "As many must succeed"),
)
HEALTH_FIELDS = (
    ("path", "Path to ask for", "Behind the target's own; with GET"),
    ("every_s", "Every, seconds", "1 to 3 600"),
    ("within_ms", "Within, milliseconds", "10 to 60 000"),
    ("statuses", "Good statuses", "Like 200, 204; empty for 200 to 399"),
    ("unwell_after", "Unwell after failed checks", "In a row"),
    ("well_after", "Well after good checks", "In a row"),
)
"""The fields of the two parts of the form: names, words, and what may stand there."""


def _form(**values: Any) -> str:
    return render(
        "backends/form.html",
        breaker_fields=BREAKER_FIELDS,
        health_fields=HEALTH_FIELDS,
        part_fields=[f"breaker_{one[0]}" for one in BREAKER_FIELDS] + [f"health_{one[0]}" for one in HEALTH_FIELDS],
        secrets=_secrets(),
        certificate_choices=[("", "none"), *((one, one) for one in _secrets())],
        **values,
    )


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


_GROUPS: dict[str, type[BaseModel]] = {"breaker": BreakerRules, "health": HealthRules}
"""Parts of a backend that are there or not, each with its fields."""
_LINES = ("targets", "models", "kept_for")
"""Fields with one thing a line."""
_TLS = ("authorities", "certificate_secret")
_PLAIN = ("name", "summary", "targets", "connect_timeout_ms", "read_timeout_ms", "first_timeout_ms",
          "whole_timeout_ms", "turned_away", "models", "kept_for", "kept_from", "sharing", "same_for", "same_header",
          "sign_in", "sign_in_name", "sign_in_secret", "authorities", "certificate_secret")  # fmt: skip


def _shown(backend: Backend | None) -> dict[str, Any]:
    """What the form shows of a backend; targets one a line, with what differs from the usual behind."""
    shown: dict[str, Any] = {
        "name": "", "summary": "", "targets": "", "connect_timeout_ms": "2000", "read_timeout_ms": "30000",
        "first_timeout_ms": "0", "whole_timeout_ms": "0",
        "turned_away": "answer the caller", "models": "", "kept_for": "", "kept_from": "80",
        "sharing": "by weight", "same_for": "", "same_header": "", "sign_in": "none", "sign_in_name": "",
        "sign_in_secret": "", "authorities": "", "certificate_secret": "", "verify_tls": True,
    }  # fmt: skip
    if backend is not None:
        shown |= {name: str(getattr(backend, name)) for name in _PLAIN if name not in _LINES}
        shown |= {name: "\n".join(map(str, getattr(backend, name))) for name in ("models", "kept_for")}
        shown |= {"targets": "\n".join(map(_line_of, backend.targets)), "verify_tls": backend.verify_tls}
    for group, model in _GROUPS.items():
        rules = getattr(backend, group) if backend is not None else None
        shown[group] = rules is not None
        for name in model.model_fields:
            value = getattr(rules if rules is not None else model(), name)
            text = ", ".join(map(str, value)) if isinstance(value, tuple) else str(value)
            shown[f"{group}_{name}"] = value if isinstance(value, bool) else text
    return shown


def _line_of(target: Target) -> str:
    words = [target.address, *target.environments]
    words += [f"weight {target.weight}"] if target.weight != 1 else []
    words += [f"priority {target.priority}"] if target.priority else []
    words += [f"capacity {target.capacity}"] if target.capacity else []
    words += [f"secret {target.secret}"] if target.secret else []
    return " ".join(words)


_WORDS = ("weight", "priority", "capacity", "secret")


def _target_of(line: str) -> dict[str, Any]:
    """A target from its line: the address, then environments, `weight N`, `priority N`, `capacity N` and `secret NAME`
    in any order."""
    words = line.replace(",", " ").split()
    found: dict[str, Any] = {"address": words[0]}
    environments = []
    rest = iter(words[1:])
    for word in rest:
        if word in _WORDS:
            found[word] = next(rest, "")
        else:
            environments.append(word)
    return found | {"environments": tuple(environments)}


def _group(group: str, model: type[BaseModel], typed: dict[str, Any]) -> dict[str, Any]:
    """What was typed of a part that is there."""
    found: dict[str, Any] = {}
    for name in model.model_fields:
        value = typed[f"{group}_{name}"]
        if name == "statuses":
            value = tuple(value.replace(",", " ").split())
        found[name] = value
    return found


def _read(name: str) -> tuple[Backend | None, dict[str, Any], dict[str, str]]:
    blank = _shown(None)
    typed: dict[str, Any] = {
        field: field in request.form if isinstance(value, bool) else request.form.get(field, value).strip()
        for field, value in blank.items()
    }
    by_header = typed["same_for"] == "the same value of a header"
    data = {field: typed[field] for field in _PLAIN} | {
        "same_header": typed["same_header"] if by_header else "",
        "name": name or typed["name"],
        "verify_tls": typed["verify_tls"],
        "targets": [_target_of(line) for line in typed["targets"].splitlines() if line.split()],
    }
    data |= {
        name: [line.strip() for line in typed[name].splitlines() if line.strip()] for name in ("models", "kept_for")
    }
    data |= {group: _group(group, model, typed) for group, model in _GROUPS.items() if typed[group]}
    try:
        backend = Backend.model_validate(data)
        unknown = unknown_environments(Configuration(backends=(backend,)), environments())
        return (None if unknown else backend), typed, dict(map(_place_of, reversed(unknown)))
    except ValidationError as error:
        errors: dict[str, str] = {}
        for problem in problems_of(error):
            field, message = _place_of(problem)
            errors.setdefault(field, message)
        return None, typed, errors


def _place_of(problem: Problem) -> tuple[str, str]:
    """The field of the form that a problem belongs to, and its words there."""
    path, message = problem.path, problem.message
    path = path[2:] if path[:1] == ("backends",) else path  # of a whole configuration
    field = str(path[0]) if path else "sign_in" if "signing in" in message else "same_for"
    if field in _GROUPS and len(path) > 1:
        return f"{field}_{path[1]}", message
    whole = message.partition(": ")
    if not path and whole[0] in (*_LINES, *_TLS):
        return whole[0], whole[2]
    if field not in _LINES:
        return field, message
    line = f"line {path[1] + 1}: " if len(path) > 1 and isinstance(path[1], int) else ""
    if field != "targets":
        return field, line + message
    if "environments" in path:
        names = in_words(environments().names, "or")
        message = f"write the address, then {names}, or nothing for all; weight 3 and priority 1 may follow ({message})"
    elif any(word in path for word in _WORDS):
        message = f"{path[-1]}: {message}"
    elif not line:
        message = "give at least one address, like http://127.0.0.1:9000"
    return field, line + message


@dataclass(frozen=True, slots=True)
class Standing:
    """How a backend's targets stand now and stood in the last hours, node by node."""

    now: list[tuple[str, dict[str, Any]]]
    bands: list[Band]
    changes: list[TargetChange]
    since: datetime


def _standing(name: str) -> Standing | None:
    """None where no node knows anything of its targets: it has neither a breaker nor checks, or is not rolled out."""
    where = environment()
    nodes = known_nodes.there(db(), where)
    now = [(node.name, one) for node in nodes for one in node.targets if one.get("backend") == name]
    if not now:
        return None
    last = datetime.now(UTC)
    first = max(last - LONGEST, min(last - SHORTEST, *(node.started_at for node in nodes)))
    changes = target_changes(db(), where, name, first)
    steps = [Step(one.at, one.target, one.node, one.state, one.why) for one in changes]
    places = sorted({(one["target"], node) for node, one in now})
    recent = [one for one in reversed(changes) if one.at >= first]
    return Standing(
        now=sorted(now, key=lambda pair: str(pair[1]["target"])),
        bands=bands(steps, places, first, last, {node.name: node.started_at for node in nodes}),
        changes=recent[:MOST_CHANGES],
        since=first,
    )


@pages.get("/<name>/standing")
@requires("see")
def standing(name: str) -> Any:
    """How its targets stand, as the page shows it anew every few seconds."""
    _find(name)
    return render_template("backends/standing.html", standing=_standing(name), backend=_find(name))


@pages.get("/")
@requires("see")
def index() -> Any:
    used = {backend.name: _used_by(backend.name) for backend in draft().backends}
    return render("backends/index.html", backends=draft().backends, used=used)


@pages.get("/new")
@requires("edit")
def new() -> Any:
    return _form(backend=None, typed=_shown(None), errors={}, steps={}, used=[], revision=0)


@pages.get("/<name>")
@requires("see")
def page(name: str) -> Any:
    return _page(_find(name), _shown(_find(name)), {}, {})


def _page(backend: Backend, typed: dict[str, Any], errors: dict[str, str], steps: dict[str, Any]) -> str:
    revision = drafting.revision(db(), "backend", backend.name)
    used = _used_by(backend.name)
    return _form(
        backend=backend,
        typed=typed,
        errors=errors,
        steps=steps,
        used=used,
        revision=revision,
        standing=_standing(backend.name),
    )


@pages.post("/new")
@requires("edit")
def add() -> Any:
    backend, typed, errors = _read("")
    if backend is not None and draft().backend(backend.name) is not None:
        errors["name"] = f"there is a backend {backend.name!r} already; choose another name"
    act = request.form.get("act")
    steps = _test(backend) if backend is not None and act == "test" else {}
    if backend is None or errors or act in ("test", "check"):
        page = _form(backend=None, typed=typed, errors=errors, steps=steps, used=[], revision=0)
        return page, 422 if errors else 200
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
        target.address: probe(target.address, settings.reach, lambda: _tls_to(backend, target), timeout_s)  # noqa: B023
        for target in backend.targets
    }
    auditing.record(db(), acting(), "test connection", f"backend {backend.name}", targets=list(found))
    db().commit()
    return found


def _tls_to(backend: Backend, target: Target) -> ssl.SSLContext:
    """How a node would talk to a target over TLS. Raises `CannotShow`, also where a secret may not be shown to it."""
    name = backend.certificate_at(target)
    if not name:
        return client_context(backend.verify_tls, backend.authorities)
    where = next(iter(target.environments), environment())
    facts = secret_store.facts_for(db(), where).get(name)
    if facts is not None and not may_go_to(facts.hosts, target.address):
        raise CannotShow(f"the secret {name!r} may not be shown to {target.address}")
    try:
        shown = secret_store.value_for(db(), settings_of(current_app).keys.credentials.sealing, name, where)
    except NotPossible as error:
        raise CannotShow(str(error)) from error
    try:
        return client_context(backend.verify_tls, backend.authorities, shown.encode())
    except CannotShow as error:
        raise CannotShow(f"the secret {name!r} {error}") from error


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
