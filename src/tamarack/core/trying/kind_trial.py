"""A written kind tried on an example call before it is saved: the gateway's own program, with a made-up backend."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from pydantic import ValidationError

from tamarack.core.balancing.route import Choice, Route
from tamarack.core.carrying.assembly import Workshop, assemble
from tamarack.core.carrying.call import Call
from tamarack.core.carrying.needs import Ask
from tamarack.core.carrying.parts import Reply
from tamarack.core.carrying.program import Operation
from tamarack.core.carrying.receiving import receive
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.configuration.model import METHODS, Configuration, check_template
from tamarack.core.configuration.snapshot import compile_snapshot
from tamarack.core.http.fields import Header
from tamarack.core.http.heads import Answered
from tamarack.core.http.target import target_at
from tamarack.core.identity.callers import CallerDirectory
from tamarack.core.identity.material import Material
from tamarack.core.limits.memory import MemoryCounters
from tamarack.core.policies.written import WrittenPolicy, model_of
from tamarack.core.told.problems import Problems
from tamarack.core.told.scripted import ScriptedDriver
from tamarack.core.told.trace import Entry, Trace
from tamarack.core.types import problems_of
from tamarack.core.written.kind import WrittenKind

LONGEST_BODY = 64_000
_BASE = "/example"
_TARGET = "http://127.0.0.1:9"


@dataclass(frozen=True, slots=True)
class Example:
    """A call to try a kind on, and what its backend answers."""

    operation: str = "post /holds/{id}"
    path: str = "/holds/corran-1?port=corran"
    headers: str = "content-type: application/json"
    body: str = '{"vessel": "lark", "length": 84}'
    fails: str = ""
    """The code of a reason that the call fails for, in place of an answer; empty for none."""
    status: int = 200
    answer_headers: str = "content-type: application/json"
    answer_body: str = '{"id": 1, "state": "held"}'


@dataclass(slots=True)
class Tried:
    """What came of it: what the backend would be asked, what the caller would be answered, and what each step did."""

    asked: str = ""
    """Empty where it is not asked."""
    asked_body: str = ""
    status: int = 0
    fields: list[tuple[str, str]] = field(default_factory=list)
    body: str = ""
    note: str = ""
    """Why it was refused, or failed, for staff."""
    entries: list[Entry] = field(default_factory=list)


def try_kind(
    kind: WrittenKind, values: dict[str, Any], example: Example, secret: str, now: float, clock: Callable[[], int]
) -> tuple[Tried | None, dict[str, str]]:
    """Run an example through a policy of the kind, with values for its parameters; every secret is `secret`.

    Returns what came of it, or what is wrong with the example, by the names of its fields and `values.` parameters.
    """
    errors = _wrong(example)
    secrets = {one.name: "example" for one in kind.parameters if one.type == "secret"}
    model = model_of(kind)
    try:
        placed = model.model_validate({"kind": kind.kind, "name": kind.name} | values | secrets)
    except ValidationError as error:
        errors |= {f"values.{problem.field}": problem.message for problem in problems_of(error)}
    if errors:
        return None, errors
    operation = _operation(kind, placed, example, secret, now)
    path, _, query = example.path.partition("?")
    call = Call(b"0000000example", now, clock(), "192.0.2.1")
    call.method = example.operation.partition(" ")[0].upper()
    call.path, call.query = (_BASE + path).encode(), query.encode()
    call.headers = _headers(example.headers)
    call.media = next((value for name, value in call.headers if name == b"content-type"), b"")
    body = example.body.encode()
    call.length = len(body)
    found = receive(operation, call)
    if not isinstance(found, Operation):
        return None, {"path": f"{path} is not a path of {example.operation.partition(' ')[2]}; let them fit"}
    return _run(found, call, body, example, clock), {}


def _wrong(example: Example) -> dict[str, str]:
    errors = {}
    method, _, path = example.operation.partition(" ")
    try:
        if method not in METHODS or method == "any":
            raise ValueError(f"{method[:20]!r} is no method; write it like post /holds/{{id}}")
        check_template(path)
    except ValueError as error:
        errors["operation"] = str(error)
    if not example.path.startswith("/") or not example.path.isascii() or " " in example.path:
        errors["path"] = "a path begins with / and has no blanks; write others encoded, as %20"
    for name, typed in (("headers", example.headers), ("answer_headers", example.answer_headers)):
        for line in filter(str.strip, typed.splitlines()):
            if ":" not in line or not line.isprintable() or not line.isascii():
                errors[name] = f"{line[:40]!r} is no field; write it like content-type: application/json"
    if not 200 <= example.status <= 599:
        errors["status"] = f"{example.status} is no status of an answer; write one from 200 to 599"
    if example.fails and example.fails not in REASONS:
        errors["fails"] = f"{example.fails[:40]!r} is no reason; write one like backend-away"
    for name, text in (("body", example.body), ("answer_body", example.answer_body)):
        if len(text) > LONGEST_BODY:
            errors[name] = f"has {len(text):,} characters; at most {LONGEST_BODY:,} fit"
    return errors


def _headers(typed: str) -> list[Header]:
    pairs = (line.partition(":") for line in typed.splitlines() if line.strip())
    return [(name.strip().lower().encode(), value.strip().encode()) for name, _, value in pairs]


def _operation(kind: WrittenKind, placed: WrittenPolicy, example: Example, secret: str, now: float) -> Any:
    """The program of an operation that anyone may call, with the policy on it."""
    policy = {**placed.model_dump(mode="json"), "kind": kind.kind, "name": kind.name}
    version = {"version": "1", "base_path": _BASE, "backend": "example", "policies": [{"kind": "open"}, policy],
               "operations": [{"call": example.operation}]}  # fmt: skip
    name = kind.api or "example"
    configuration = Configuration.model_validate(
        {
            "kinds": [kind.model_dump(mode="json")],
            "backends": [{"name": "example", "targets": [{"address": _TARGET}]}],
            "apis": [{"name": name, "title": "The example", "versions": [version]}],
        }
    )
    material = Material("test", lambda sealed, about: sealed.encode())
    material.secret("example").put(((secret.encode(), 0.0),))
    routes = {"example": Route((Choice(target_at(_TARGET, 1000, 1000)),))}
    shop = Workshop(CallerDirectory(b"", "test"), material, MemoryCounters(), "test", routes=routes)
    return assemble(compile_snapshot(configuration, "test"), shop)


def _run(operation: Operation, call: Call, body: bytes, example: Example, clock: Callable[[], int]) -> Tried:
    tried = Tried()
    trace = call.trace = Trace(clock)

    def backend(ask: Ask, sent: bytes) -> Any:
        tried.asked = ask.head.decode("latin-1").strip()
        tried.asked_body = sent.decode("utf-8", "replace")
        headers = [*_headers(example.answer_headers), (b"content-length", b"%d" % len(example.answer_body.encode()))]
        return Answered(example.status, headers, example.answer_body.encode()), ()

    driver = ScriptedDriver(MemoryCounters(), backend)
    outcome: Any = Refusal(REASONS[example.fails]) if example.fails else driver.carry(call, operation, body)
    if example.fails:
        call.operation, call.body = operation, body
    if isinstance(outcome, Refusal):
        tried.note = outcome.note
        outcome = Problems("https://portal.example").reply(outcome, call)
        tried.note = tried.note or REASONS[call.reason].title
    tried.status = outcome.status
    tried.fields = [
        (name.decode("latin-1"), value.decode("latin-1"))
        for line in outcome.fields.split(b"\r\n")
        if line
        for name, _, value in (line.partition(b": "),)
    ]
    sent = outcome.body if isinstance(outcome, Reply) else driver.sent
    tried.body = (sent or b"").decode("utf-8", "replace")
    tried.entries = [*trace.entries, *([] if example.fails else trace.not_reached(operation.named))]
    return tried
