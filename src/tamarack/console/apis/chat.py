"""Bringing in a chat API: from the address of a language model's server, which is asked for its models."""

import json
from typing import Any

from flask import Blueprint, current_app, request
from pydantic import TypeAdapter, ValidationError

from tamarack.console.apis.imports import FIELDS, build_api, free_name, save_api
from tamarack.console.page import acting, draft, render, requires
from tamarack.core.configuration.backend import Backend, Target
from tamarack.core.configuration.model import Api, Operation
from tamarack.core.identity.secret_facts import may_go_to
from tamarack.core.language_models.described import OPERATIONS, chat_document
from tamarack.core.language_models.offered_models import ModelLine, OfferedModel
from tamarack.core.policies import Policy
from tamarack.core.policies.identify.api_key import ApiKey
from tamarack.core.policies.meter.token_count import TokenCount
from tamarack.core.policies.permit.models import Models, OpenModel
from tamarack.core.types import problems_of
from tamarack.store.audit import log as auditing
from tamarack.store.documents import queries as documents
from tamarack.store.errors import NotPossible
from tamarack.store.secrets import queries as secret_store
from tamarack.web.application import db, settings_of
from tamarack.web.outgoing.asking import NotReached, ask

pages = Blueprint("chat_imports", __name__, url_prefix="/apis/new/chat")

WITHIN_S = 5.0
MOST_MODELS = 100
READ_TIMEOUT_MS = 120_000
"""Between two pieces of an answer: models think."""
_LINES: TypeAdapter[tuple[OfferedModel, ...]] = TypeAdapter(tuple[ModelLine, ...])


@pages.get("/")
@requires("edit")
def form() -> Any:
    return _page(_blank(), {}, [])


@pages.post("/")
@requires("edit")
def save() -> Any:
    """Ask the address for its models, or save the API with its backend."""
    typed = _blank() | {name: request.form.get(name, "").strip() for name in (*FIELDS, "secret", "models")}
    typed["calls"] = [call for call in OPERATIONS if call in request.form.getlist("calls")]
    typed["keys"] = "keys" in request.form
    errors: dict[str, str] = {}
    target = _target(typed, errors)
    if request.form.get("act") == "ask":
        told = _ask(typed, target, errors) if target is not None else []
        if told and not typed["models"]:
            typed["models"] = "\n".join(told)
        return _page(typed, errors, told), 422 if errors else 200
    made = _build(typed, target, errors)
    if made is None:
        return _page(typed, errors, []), 422
    return save_api(*made)


def _blank() -> dict[str, Any]:
    usual = {"version": "1", "keys": True, "calls": list(OPERATIONS)}
    return dict.fromkeys((*FIELDS, "secret", "models"), "") | usual


def _page(typed: dict[str, Any], errors: dict[str, str], told: list[str]) -> str:
    return render(
        "apis/imports/chat.html",
        typed=typed,
        errors=errors,
        told=told,
        operations=OPERATIONS,
        secrets=[one.name for one in secret_store.all_secrets(db())],
        existing=draft().api(typed["name"]),
    )


def _target(typed: dict[str, Any], errors: dict[str, str]) -> Target | None:
    try:
        return Target(address=typed["address"])
    except ValidationError as error:
        errors["address"] = problems_of(error)[0].message
        return None


def _ask(typed: dict[str, Any], target: Target, errors: dict[str, str]) -> list[str]:
    """The names of the models that an address tells of; what went wrong is told at its field."""
    address = f"{target.address}/models"
    headers = {"User-Agent": "tamarack-import", "Accept": "application/json"}
    settings = settings_of(current_app)
    auditing.record(db(), acting(), "ask for models", address, secret=typed["secret"])
    db().commit()
    try:
        if typed["secret"]:
            headers["Authorization"] = f"Bearer {_secret(typed['secret'], address)}"
        answer, content = ask("GET", address, headers, None, settings.reach, WITHIN_S)
        if answer.status != 200:
            raise NotReached(f"{address} answered {answer.status} {answer.reason}, not 200; type its models below")
        return _names(address, content)
    except NotPossible as error:
        errors["secret"] = str(error)
    except NotReached as error:
        errors["address"] = str(error)
    return []


def _secret(name: str, address: str) -> str:
    known = next((one for one in secret_store.all_secrets(db()) if one.name == name), None)
    if known is None or not may_go_to(known.hosts, address):
        raise NotPossible(
            f"The secret {name!r} may not be sent there; add the host on its page under Settings, Secrets."
        )
    return secret_store.value_in_force(db(), settings_of(current_app).keys.credentials.sealing, name)


def _names(address: str, content: bytes) -> list[str]:
    """The names in a list of models. Raises `NotReached`."""
    try:
        told = json.loads(content)
        found = [str(one["id"]) for one in told["data"]][:MOST_MODELS]
        return [str(one) for one in _LINES.validate_python(found)]
    except (ValueError, KeyError, TypeError, RecursionError):
        raise NotReached(f"{address} does not tell a list of models; type them below") from None


def _build(typed: dict[str, Any], target: Target | None, errors: dict[str, str]) -> tuple[Api, Backend | None] | None:
    """The API and its backend; None where something is wrong."""
    lines: tuple[OfferedModel, ...] = ()
    try:
        lines = _LINES.validate_python([line.strip() for line in typed["models"].splitlines() if line.strip()])
    except ValidationError as error:
        problem = problems_of(error)[0]
        errors["models"] = f"line {int(problem.path[0]) + 1}: {problem.message}" if problem.path else problem.message
    if not lines and "models" not in errors:
        errors["models"] = "name at least one model that callers may ask for"
    if not typed["calls"]:
        errors["calls"] = "choose at least one operation"
    backend = _backend(typed, target, lines, errors) if target is not None else None
    text = document = ""
    if lines and typed["calls"]:
        text = chat_document(typed["title"], typed["version"], typed["summary"], typed["calls"], lines[0].name)
        document = documents.name_of(text)
    operations = tuple(Operation(call=call, summary=OPERATIONS[call]) for call in typed["calls"])
    api = build_api(typed, operations, document, errors, backend, _policies(typed, lines), "chat")
    if api is None or errors:
        return None
    documents.keep_document(db(), text)
    return api, backend


def _backend(
    typed: dict[str, Any], target: Target, lines: tuple[OfferedModel, ...], errors: dict[str, str]
) -> Backend | None:
    renamed = any(line.model != line.name or line.address for line in lines)
    signs_in = {"sign_in": "bearer", "sign_in_secret": typed["secret"]} if typed["secret"] else {}
    try:
        return Backend.model_validate(
            {"name": free_name(typed["title"]), "targets": (target,), "read_timeout_ms": READ_TIMEOUT_MS,
             "models": lines if renamed else (), **signs_in}
        )  # fmt: skip
    except ValidationError as error:
        message = problems_of(error)[0].message
        errors["models" if "models" in message else "title"] = message.removeprefix("models: ")
        return None


def _policies(typed: dict[str, Any], lines: tuple[OfferedModel, ...]) -> tuple[Policy, ...]:
    """What stands on it from the start: how callers show who they are, which models there are, and what is counted."""
    names = dict.fromkeys(line.name for line in lines)
    offered = tuple(OpenModel(model=name) for name in names)
    keys: tuple[Policy, ...] = (ApiKey(header="x-api-key", bearer=True),) if typed["keys"] else ()
    return (*keys, *((Models(offered=offered),) if offered else ()), TokenCount())
