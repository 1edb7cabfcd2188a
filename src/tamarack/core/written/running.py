"""Steps run on calls: compiled once for a policy, with bounds that hold whatever a call brings."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any, NamedTuple
from urllib.parse import unquote_to_bytes

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Reply
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.errors import CoreError
from tamarack.core.http.fields import field_line
from tamarack.core.http.heads import Answered
from tamarack.core.http.query import name_of
from tamarack.core.json_pointer import at_pointer
from tamarack.core.shaping import field_edits, json_bodies, json_edits
from tamarack.core.text import one_line
from tamarack.core.values.call_values import known_of, path_values
from tamarack.core.values.template import Template, TemplateFailed, into
from tamarack.core.written.expressions import VARIABLES, Expression, ExpressionFailed, Language, language
from tamarack.core.written.json_path import TooMany, values_at
from tamarack.core.written.steps import (
    EditField,
    EditJson,
    GiveAnswer,
    Let,
    Refuse,
    SetStatus,
    Side,
    Step,
    Stop,
)

LARGEST_BODY = 64_000
"""Bytes of a body that conditions and values are taken from."""
LARGEST_EDITED = 1_000_000
"""Bytes of one that is edited alone."""
_UNTRUE = frozenset((b"content-length", b"content-md5", b"digest", b"content-digest", b"repr-digest"))


class StepFailed(CoreError, ValueError):
    """A step that could not be taken for a call; `line` says which (0 for all), the words are for staff."""

    def __init__(self, line: int, words: str, reason: str = "change-failed") -> None:
        super().__init__(f"line {line}: {words}" if line else words)
        self.reason = reason


class Refused(NamedTuple):
    """The steps refuse the call."""

    status: int
    words: str


class Given(NamedTuple):
    """The steps answer the call."""

    status: int
    media: str
    body: bytes


class _Body:
    """A JSON body as steps see it: read once, written once."""

    __slots__ = ("_absent", "_media", "_read", "_wrong", "changed", "raw", "value")

    def __init__(self, raw: bytes | None, media: bytes, absent: bool) -> None:
        self.raw = raw
        self._absent = absent
        """It is larger than steps look at."""
        self._wrong = ""
        self.changed = False
        self.value: Any = None
        self._media = media
        self._read = False

    @property
    def is_json(self) -> bool:
        """Whether its media type says so."""
        return json_bodies.is_json(self._media)

    def read(self) -> Any:
        """Its value; None where it holds no JSON. Raises ValueError where it should, and does not, and `TooMany`."""
        if not self._read:
            if self._wrong:
                raise ValueError(self._wrong)
            if self._absent and self.is_json:
                raise TooMany("the body is larger than is looked at")
            self.value = json_bodies.load(self.raw) if self.raw and self.is_json else None
            self._read = True
        return self.value

    def cannot_be_read(self, why: str) -> None:
        """It is not what its media type says, as far as can be seen here."""
        self._wrong = why

    def nothing(self) -> None:
        """The message has no body, whatever its fields say."""
        self._read, self.raw, self._absent = True, None, False

    def written(self) -> bytes:
        """What it has become. Raises `StepFailed`."""
        try:
            return json_bodies.dump(self.value)
        except (ValueError, RecursionError) as error:
            raise StepFailed(
                0, "the body cannot be written as JSON again; it is nested too deeply", "bad-body"
            ) from error

    def put(self, value: Any) -> None:
        """Give it another value."""
        self.value, self._read, self.changed = value, True, True


class Running:
    """One side's steps on one call."""

    __slots__ = (
        "_activation",
        "_held",
        "answer",
        "body",
        "call",
        "error",
        "last_set",
        "outer_body",
        "secrets",
        "side",
        "variables",
    )

    def __init__(
        self,
        side: SteppedSide,
        call: Call,
        variables: dict[str, Any],
        answer: Answered | None = None,
        error: Mapping[str, Any] | None = None,
        secrets: Mapping[str, str] | None = None,
    ) -> None:
        """`secrets` are the handles of the kind's secrets, by the parameters that name them."""
        self.side = side
        self.call = call
        self.last_set = ""
        self.variables = variables
        self.answer = answer
        self.error = error or {}
        self.secrets = secrets or {}
        most = side.largest
        own: _Body = _Body(call.body, call.media, call.length != 0 and (call.body is None or len(call.body) > most))
        self.outer_body: _Body = own
        """The request's."""
        self.body: _Body = own
        """The one that is looked at and edited on this side."""
        if answer is not None:
            media = dict(answer.headers).get(b"content-type", b"")
            self.body = _Body(answer.body, media, answer.body is None or len(answer.body) > most)
        self._activation: Any = None
        self._held: dict[str, Any] | None = None

    def told_once(self) -> list[str]:
        """What the last action did, where it is seen nowhere else: the variable that it set."""
        name, self.last_set = self.last_set, ""
        return [f"let {name} = {_as_text(self.variables[name])[:200]}"] if name else []

    def forget(self) -> None:
        """Something changed: values are taken anew when they are asked for."""
        self._activation = None
        self._held = None

    def values(self) -> Any:
        """The values that this side's expressions name."""
        if self._activation is None:
            side = self.side
            found = {name: _FINDS[name](self) for name in side.names if name in _FINDS}
            found |= side.parameters
            found |= {f"params.{name}": handle for name, handle in self.secrets.items()}
            found |= {name: self.variables.get(name[5:]) for name in side.variable_names}
            self._activation = side.language.values(found)
        return self._activation

    def known(self) -> dict[str, Any]:
        """What texts take from, besides the call."""
        if self._held is None:
            self._held = {"params": self.side.shown, "vars": self.variables}
            if self.answer is not None and self.side.side == "answer":
                self._held["answer"] = {
                    "status": self.answer.status,
                    "header": _first_of(self.answer.headers),
                    "body": self._read_body() if "answer" in self.side.template_roots else None,
                }
            if self.error:
                self._held["error"] = self.error
        return self._held

    def _read_body(self) -> Any:
        try:
            return self.body.read()
        except ValueError:
            return None


def _first_of(headers: Iterable[tuple[bytes, bytes]]) -> dict[str, str]:
    found: dict[str, str] = {}
    for name, value in headers:
        found.setdefault(name.decode("latin-1"), value.decode("latin-1"))
    return found


def _query(running: Running) -> dict[str, str]:
    found: dict[str, str] = {}
    for part in running.call.query.split(b"&"):
        if part:
            value = unquote_to_bytes(part.partition(b"=")[2].replace(b"+", b" "))
            found.setdefault(name_of(part).decode("utf-8", "replace"), value.decode("utf-8", "replace"))
    return found


def _of(root: str, name: str) -> Callable[[Running], Any]:
    return lambda running: known_of(running.call, (root,))[root][name]


def _or_empty(value: Any) -> Any:
    """A body's value; an empty object where there is none, as texts have it, so that `has(body.x)` is asked of any."""
    return {} if value is None else value


def _of_error(name: str) -> Callable[[Running], Any]:
    return lambda running: running.error[name]


def _answered(running: Running) -> Answered:
    assert running.answer is not None
    return running.answer


_FINDS: dict[str, Callable[[Running], Any]] = {
    "path": lambda running: path_values(running.call),
    "query": _query,
    "header": lambda running: _first_of(running.call.headers),
    "body": lambda running: _or_empty(running.outer_body.read()),
    "claims": lambda running: running.call.claims or {},
    "call.id": lambda running: running.call.id.decode(),
    "call.method": lambda running: running.call.method,
    "call.path": lambda running: running.call.path.decode("latin-1"),
    "call.time": _of("call", "time"),
    **{f"caller.{name}": _of("caller", name) for name in ("application", "organization", "user", "plan")},
    "answer.status": lambda running: _answered(running).status,
    "answer.header": lambda running: _first_of(_answered(running).headers),
    "answer.body": lambda running: _or_empty(running.body.read()),
    **{f"error.{name}": _of_error(name) for name in ("status", "reason", "title", "detail")},
}

_Act = Callable[[Running], Refused | Given | Stop | None]


class SteppedSide:
    """The steps of a side, ready for any number of calls."""

    def __init__(
        self,
        side: Side,
        steps: Sequence[Step],
        types: Mapping[str, str],
        variables: Sequence[str],
        parameters: Mapping[str, Any],
        shown: Mapping[str, Any],
    ) -> None:
        """`parameters` are what expressions are given, by name; `shown` what texts are: without secrets."""
        self.side = side
        self.steps = bool(steps)
        known = dict(VARIABLES[side]) | {f"params.{name}": kind for name, kind in types.items()}
        known |= {f"vars.{name}": "any" for name in variables}
        self.language: Language = language(tuple(known.items()))
        expressions = [one for step in steps for one in _expressions(step)]
        self.names = frozenset[str]().union(*(one.names for one in expressions))
        self.parameters = {f"params.{name}": value for name, value in parameters.items()
                           if f"params.{name}" in self.names}  # fmt: skip
        self.variable_names = [name for name in self.names if name.startswith("vars.")]
        self.shown = dict(shown)
        texts = [text for step in steps for text in _texts(step)]
        self.template_roots = frozenset(root for text in texts for root in ("body", "answer") if root in text)
        actions = [numbered.action for step in steps for numbered in step.actions]
        self.edits_body = any(isinstance(one, EditJson) for one in actions)
        looks_up = any(isinstance(one, Let) and (one.pointer or one.path) for one in actions)
        self.reads_own = self.edits_body or looks_up
        own = "body" if side == "request" else "answer.body"
        self.reads_request = "body" in self.names or "body" in self.template_roots or (
            side == "request" and self.reads_own
        )  # fmt: skip
        self.reads_answer = side != "request" and (
            self.reads_own or own in self.names or "answer" in self.template_roots
        )
        looks = looks_up or not self.names.isdisjoint(("body", "answer.body"))
        self.largest = LARGEST_BODY if looks or self.template_roots else LARGEST_EDITED
        """Bytes of a body that they take."""
        self.answers = any(isinstance(one, GiveAnswer) for one in actions)
        self._steps = [(step.line, step.when, [(one.line, _act(one.action)) for one in step.actions]) for step in steps]

    def run(self, running: Running) -> Refused | Given | None:
        """Take the steps, and tell a trace what each condition and variable came to. Raises `StepFailed`."""
        line = 0
        trace = running.call.trace
        try:
            for line, when, acts in self._steps:
                if when is not None:
                    holds = when.holds(running.values())
                    if trace is not None:
                        trace.said.append(
                            (f"line {line}", f"when {when.text}: {'holds' if holds else 'does not hold'}")
                        )
                    if not holds:
                        continue
                for line, act in acts:
                    ended = act(running)
                    if trace is not None:
                        trace.said += [(f"line {line}", words) for words in running.told_once()]
                    if ended is not None:
                        return None if isinstance(ended, Stop) else ended
        except (ExpressionFailed, TemplateFailed) as error:
            raise StepFailed(line, str(error)) from error
        except TooMany as error:
            raise StepFailed(line, str(error), "too-large") from error
        except (ValueError, RecursionError) as error:
            words = str(error).partition(":")[0] if isinstance(error, ValueError) else "it is nested too deeply"
            raise StepFailed(line, f"the body: {words}", "bad-body") from error
        return None


def _expressions(step: Step) -> Iterable[Expression]:
    if step.when is not None:
        yield step.when
    for numbered in step.actions:
        expression = getattr(numbered.action, "expression", None)
        if expression is not None:
            yield expression


def _texts(step: Step) -> Iterable[str]:
    for numbered in step.actions:
        action = numbered.action
        if isinstance(action, EditField):
            yield action.edit.value
        elif isinstance(action, EditJson):
            yield action.edit.value if action.edit is not None else ""
        elif isinstance(action, Refuse):
            yield action.words
        elif isinstance(action, GiveAnswer):
            yield action.body


def _act(action: Any) -> _Act:
    match action:
        case Let():
            return _let(action)
        case EditField():
            return _edit_field(action)
        case EditJson():
            return _edit_json(action)
        case SetStatus(status):
            return _set_status(status)
        case Refuse(status, words):
            template = Template(words)
            return lambda running: Refused(status, one_line(_made(template, running).decode()))
        case GiveAnswer(status, media, text):
            body = Template(text, into(media))
            return lambda running: Given(status, media, _made(body, running))
    return lambda running: Stop()


def _set_status(status: int) -> _Act:
    def make(running: Running) -> None:
        _answered(running).status = status
        running.forget()

    return make


def _made(template: Template, running: Running) -> bytes:
    if template.plain is not None:
        return template.plain
    return template.made_for(running.call, known_of(running.call, template.names) | running.known())


def _let(action: Let) -> _Act:
    name, expression, pointer, path = action.name, action.expression, action.pointer, action.path

    def let(running: Running) -> None:
        if expression is not None:
            value = expression.value(running.values())
        elif pointer:
            value = at_pointer(running.body.read(), pointer)
        else:
            value = values_at(path, running.body.read())
        running.variables[name] = value
        running.last_set = name
        running.forget()

    return let


def _edit_field(action: EditField) -> _Act:
    edit, expression = action.edit, action.expression
    change, put = field_edits.compiled([edit]), field_edits.putter(edit)
    plain = "{{" not in edit.value and "{%" not in edit.value

    def make(running: Running) -> None:
        call, answer = running.call, running.answer
        headers, query = (call.headers, call.query) if answer is None else (answer.headers, b"")
        if expression is not None:
            value = _as_text(expression.value(running.values())).encode("utf-8", "replace")
            headers, query = put(headers, query, value)
        else:
            headers, query = change(headers, query, call, None if plain else running.known())
        if answer is None:
            call.headers, call.query = headers, query
        else:
            answer.headers = headers
        running.forget()

    return make


def _as_text(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, bool):
        return "true" if value else "false"
    return json_bodies.dump(value).decode() if isinstance(value, list | dict) else str(value)


def _edit_json(action: EditJson) -> _Act:
    edit, pointer, expression = action.edit, action.pointer, action.expression
    change = json_edits.compiled([edit]) if edit is not None else None

    def make(running: Running) -> None:
        body = running.body
        document = body.read()
        if not body.is_json or (document is None and not body.raw):
            return
        if change is not None:
            document = change(document, running.call, running.known())
        elif expression is not None:
            document = json_edits.put_at(document, pointer, expression.value(running.values()))
        body.put(document)
        running.forget()

    return make


def written_back(headers: list[tuple[bytes, bytes]]) -> list[tuple[bytes, bytes]]:
    """The fields of a message whose body was changed: nothing that no longer holds of it."""
    return [(name, b"W/" + value if name == b"etag" and not value.startswith(b"W/") else value)
            for name, value in headers if name not in _UNTRUE]  # fmt: skip


def refusal_of(ended: Refused, policy: str) -> Refusal:
    """What a caller is told that steps refuse."""
    return Refusal(REASONS["written-rule"], policy=policy, detail=ended.words, status=ended.status, note=ended.words)


def reply_of(given: Given) -> Reply:
    """The answer that steps give."""
    fields = field_line(b"content-type", given.media.encode()) if given.body else b""
    return Reply(given.status, fields, given.body)
