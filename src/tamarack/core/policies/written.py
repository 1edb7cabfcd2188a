"""Policies of written kinds: what is kept of one, its form, and what it becomes on a call's way.

A policy names its kind and holds its values; what the kind says stands once in the configuration. `bind` brings the two
together wherever a configuration is read.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from functools import lru_cache
from typing import Annotated, Any

from pydantic import (
    ConfigDict,
    Field,
    PrivateAttr,
    SerializerFunctionWrapHandler,
    StringConstraints,
    ValidationError,
    create_model,
    model_serializer,
)

from tamarack.core.caching.kept import split_fields
from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Answerer, Change, OnError, Part, Reply
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.errors import CoreError
from tamarack.core.http.fields import field_line
from tamarack.core.http.heads import Answered
from tamarack.core.policies.kind import NAME_HELP, Policy, PolicyKind, Surroundings
from tamarack.core.stages import Stage
from tamarack.core.types import Name, Problem, problems_of
from tamarack.core.written.expressions import handle_of
from tamarack.core.written.kind import PREFIX, WrittenKind
from tamarack.core.written.parameters import CEL_TYPES, as_field, as_value
from tamarack.core.written.running import (
    Given,
    Refused,
    Running,
    StepFailed,
    SteppedSide,
    refusal_of,
    reply_of,
    written_back,
)
from tamarack.core.written.steps import SIDES, Side, variables_in

MOST_BRIEF = 30
_NEGOTIATED = frozenset((b"accept-encoding", b"range", b"if-range"))
"""Fields by which a backend would give a body that cannot be looked into."""
_WITHOUT_BODY = frozenset((204, 205, 304))
_ON_ANSWERS = {"bad-body": "answer-unreadable", "too-large": "answer-unreadable"}
"""Why an answer cannot be given, where a request would be refused."""


class NoSuchKind(CoreError, ValueError):
    """A policy of a written kind that the configuration does not hold."""


class WrittenPolicy(Policy):
    """A policy of a written kind. Its values are fields beside the name, checked by the kind's parameters."""

    model_config = ConfigDict(frozen=True, extra="allow")

    kind: Annotated[str, StringConstraints(pattern=r"^written:[a-z][a-z0-9-]{0,62}$")]
    name: Name
    _definition: WrittenKind | None = PrivateAttr(default=None)

    @model_serializer(mode="wrap")
    def _with_kind(self, write: SerializerFunctionWrapHandler) -> dict[str, Any]:
        """Its kind and its name are always written: what the kind's default is may change."""
        fields: dict[str, Any] = write(self)
        return {"kind": self.kind, "name": self.name} | fields

    @property
    def called(self) -> str:
        """See `Policy.called`: empty where it is called as its kind is."""
        return "" if self.kind == f"{PREFIX}{self.name}" else super().called

    @property
    def row(self) -> PolicyKind:
        """Its kind, as the table of kinds would hold it."""
        return row_of(self._definition) if self._definition is not None else unknown_row(self.kind)

    @property
    def definition(self) -> WrittenKind | None:
        """What its kind says; None where the configuration does not hold it."""
        return self._definition

    def bind(self, definition: WrittenKind | None) -> None:
        """Bring it together with what its kind says."""
        self._definition = definition

    @property
    def secret_names(self) -> Iterable[str]:
        """The secrets that its values name."""
        definition = self._definition
        for parameter in definition.parameters if definition is not None else ():
            named = getattr(self, parameter.name, "") if parameter.type == "secret" else ""
            if named:
                yield named

    def __eq__(self, other: object) -> bool:
        return isinstance(other, WrittenPolicy) and self.model_dump() == other.model_dump()

    def __hash__(self) -> int:
        return hash((self.kind, self.name, self.off))


def bind(policies: Iterable[Policy], kinds: Mapping[str, WrittenKind]) -> None:
    """Bring policies of written kinds together with what those say."""
    for policy in policies:
        if isinstance(policy, WrittenPolicy):
            policy.bind(kinds.get(policy.kind[len(PREFIX) :]))


@lru_cache(maxsize=512)
def model_of(definition: WrittenKind) -> type[WrittenPolicy]:
    """The model of those who place the kind: its parameters as fields, each with its type, rule and help."""
    fields: dict[str, Any] = {one.name: as_field(one) for one in definition.parameters}
    named = (Name, Field(default=definition.name, title="Name", description=NAME_HELP))
    made = create_model(
        "Written", __base__=WrittenPolicy, kind=(str, Field(default=definition.kind)), name=named, **fields
    )
    made.model_config["extra"] = "forbid"
    made.model_rebuild(force=True)
    return made


def as_placed(policy: WrittenPolicy) -> WrittenPolicy:
    """The policy with its values checked by its kind. Raises `ValidationError`, or `NoSuchKind`."""
    if policy.definition is None:
        raise NoSuchKind(f"there is no written kind {policy.kind[len(PREFIX) :]!r}")
    made = model_of(policy.definition).model_validate(policy.model_dump(mode="json"))
    made.bind(policy.definition)
    return made


def as_kept(policy: WrittenPolicy, definition: WrittenKind | None) -> WrittenPolicy:
    """A policy that was read by its kind's own model, as a configuration keeps it: values that are no defaults."""
    made = WrittenPolicy.model_validate(policy.model_dump(mode="json", exclude_defaults=True))
    made.bind(definition)
    return made


def value_problems(policy: WrittenPolicy, api: str) -> list[Problem]:
    """What is wrong with a policy's kind or its values, where it is placed on an API (empty for everywhere)."""
    definition = policy.definition
    if definition is None:
        message = (
            f"there is no written kind {policy.kind[len(PREFIX) :]!r}; write it under APIs, Kinds, or take this out"
        )
        return [Problem(path=("kind",), message=message)]
    if definition.api and definition.api != api:
        message = f"the kind {definition.name!r} is private to the API {definition.api!r}; it cannot stand here"
        return [Problem(path=("kind",), message=message)]
    try:
        as_placed(policy)
    except ValidationError as error:
        return [
            Problem(path=problem.path, message=f"‘{policy.name}’: {problem.field} {problem.message}")
            for problem in problems_of(error)
        ]
    return []


@lru_cache(maxsize=512)
def row_of(definition: WrittenKind) -> PolicyKind:
    """The kind as the table of kinds would hold it."""
    program = definition.program
    reasons = ("change-failed", "bad-body", "too-large") if program.request else ()
    refuses = any(type(one.action).__name__ == "Refuse" for side in SIDES for step in program.side(side)
                  for one in step.actions)  # fmt: skip
    return PolicyKind(
        kind=definition.kind,
        title=definition.title,
        stage=definition.stage,
        purpose=definition.summary,
        model=model_of(definition),
        compile=lambda policy, surroundings: _compile(definition, policy, surroundings),
        brief=lambda policy: _brief(definition, policy),
        sentence=lambda policy: _sentence(definition, policy),
        sentence_outside=lambda policy: "",
        reasons=(
            *reasons,
            *(("written-rule",) if refuses else ()),
            *(("answer-unreadable",) if program.answer else ()),
        ),
        only_inside="everywhere" not in definition.levels,
        levels=definition.levels,
    )


@lru_cache(maxsize=512)
def unknown_row(kind: str) -> PolicyKind:
    """What stands in the place of a kind that the configuration does not hold. It cannot be rolled out."""
    name = kind[len(PREFIX) :]

    def refuse(policy: Any, surroundings: Surroundings) -> Sequence[Part]:
        raise NoSuchKind(f"there is no written kind {name!r}")

    return PolicyKind(
        kind=kind,
        title=f"Unknown kind ‘{name}’",
        stage=Stage.SHAPE,
        purpose="A written kind that is not there any more",
        model=WrittenPolicy,
        compile=refuse,
        brief=lambda policy: "its kind is gone",
        sentence=lambda policy: f"The written kind `{name}` is not there; nothing can be rolled out with it.",
    )


def _shown(definition: WrittenKind, policy: WrittenPolicy) -> list[tuple[str, str]]:
    """The values that were filled in, as people read them: those that are not the defaults."""
    found = []
    for parameter in definition.parameters:
        value = getattr(policy, parameter.name, None)
        if value in (None, "", (), []) or str(value) == parameter.default or value is False:
            continue
        shown = (
            "yes" if value is True else ", ".join(map(str, value)) if isinstance(value, list | tuple) else str(value)
        )
        found.append((parameter.label, shown))
    return found


def _brief(definition: WrittenKind, policy: WrittenPolicy) -> str:
    shown = [f"{label.lower()} {value}" if len(label) < 14 else value for label, value in _shown(definition, policy)]
    text = ", ".join(shown) or definition.summary
    return text if len(text) <= MOST_BRIEF else f"{text[: MOST_BRIEF - 1]}…"


def _sentence(definition: WrittenKind, policy: WrittenPolicy) -> str:
    values = ", ".join(f"{label.lower()} `{value[:60]}`" for label, value in _shown(definition, policy))
    return f"{definition.title}: {definition.summary}{f' ({values})' if values else ''}."


class _State:
    """What a policy keeps of a call from one side to the next."""

    __slots__ = ("owner", "reply", "variables")

    def __init__(self, owner: object) -> None:
        self.owner = owner
        self.variables: dict[str, Any] = {}
        self.reply: Reply | None = None


def _compile(definition: WrittenKind, placed: WrittenPolicy, surroundings: Surroundings) -> list[Part]:
    policy = as_placed(placed) if placed.definition is not None else placed
    program = definition.program
    types = {one.name: CEL_TYPES[one.type] for one in definition.parameters}
    values, shown = {}, {}
    for one in definition.parameters:
        kept = getattr(policy, one.name)
        if one.type == "secret":
            holder = surroundings.material.secret(kept) if kept else None
            values[one.name] = holder
        else:
            values[one.name] = shown[one.name] = as_value(one, kept)
            if one.type == "duration":
                shown[one.name] = kept
    texts = (definition.request, definition.answer, definition.error)
    secrets = {one.name: values.pop(one.name) for one in definition.parameters if one.type == "secret"}
    sides = {
        side: SteppedSide(side, program.side(side), types, variables_in(texts[: at + 1]), values, shown)
        for at, side in enumerate(SIDES)
    }
    return _Parts(policy.name, sides, secrets).parts()


class _Parts:
    """The parts of one policy, which share what it keeps of a call."""

    def __init__(self, name: str, sides: Mapping[Side, SteppedSide], secrets: Mapping[str, Any]) -> None:
        self.name = name
        self.sides = sides
        self.secrets = secrets
        self.asks_plain = sides["answer"].reads_answer

    def parts(self) -> list[Part]:
        request, answer, error = (self.sides[side] for side in SIDES)
        wanted = max((side.largest for side in (request, answer, error) if side.reads_request), default=0)
        found: list[Part] = []
        if request.steps or self.asks_plain:
            found.append(Change(stage=Stage.SHAPE, request=self.request, request_body=wanted))
        if request.answers:
            found.append(Answerer(stage=Stage.ANSWER, answer=self.reply))
        if answer.steps:
            reads = answer.largest if answer.reads_answer else 0
            body = 0 if request.steps or self.asks_plain else wanted
            found.append(Change(stage=Stage.RETURN, answer=self.answer, answer_body=reads, request_body=body))
        if error.steps:
            found.append(OnError(stage=Stage.ON_ERROR, answer=self.error, request_body=wanted if len(found) < 1 else 0))
        return found

    def _state(self, call: Call, make: bool) -> _State:
        for one in call.answer_marks:
            if type(one) is _State and one.owner is self:
                return one
        state = _State(self)
        if make:
            call.answer_marks = (*call.answer_marks, state)
        return state

    def _running(
        self, side: Side, call: Call, state: _State, answer: Answered | None = None, error: Any = None
    ) -> Running:
        secrets = {name: _handle(holder, call.now) for name, holder in self.secrets.items()} if self.secrets else None
        return Running(self.sides[side], call, state.variables, answer, error, secrets)

    def request(self, call: Call) -> Refusal | None:
        """The steps on the request."""
        side = self.sides["request"]
        state = self._state(call, True)
        if side.steps:
            running = self._running("request", call, state)
            try:
                ended = side.run(running)
                if running.body.changed:
                    call.body = running.body.written()
                    call.headers = written_back(call.headers)
            except StepFailed as error:
                return Refusal(REASONS[error.reason], policy=self.name, note=str(error))
            if isinstance(ended, Refused):
                return refusal_of(ended, self.name)
            if isinstance(ended, Given):
                state.reply = reply_of(ended)
        if self.asks_plain:
            call.headers = [field for field in call.headers if field[0] not in _NEGOTIATED]
        return None

    def reply(self, call: Call) -> Reply | None:
        """The answer that the steps on the request gave."""
        return self._state(call, False).reply

    def answer(self, call: Call, answer: Answered) -> Refusal | None:
        """The steps on the answer."""
        running = self._running("answer", call, self._state(call, True), answer)
        if running.body.is_json and any(name == b"content-encoding" for name, _ in answer.headers):
            running.body.cannot_be_read("it is compressed")
        if call.method == "HEAD" or answer.status in _WITHOUT_BODY:
            running.body.nothing()
        try:
            ended = self.sides["answer"].run(running)
            body = running.body.written() if running.body.changed else None
        except StepFailed as error:
            code = _ON_ANSWERS.get(error.reason, error.reason)
            return Refusal(REASONS[code], policy=self.name, note=str(error))
        if isinstance(ended, Refused):
            return refusal_of(ended, self.name)
        if isinstance(ended, Given):
            kept = [field for field in written_back(answer.headers) if field[0] not in (b"content-type", b"etag")]
            media = [(b"content-type", ended.media.encode())] if ended.body else []
            answer.status, answer.headers = ended.status, [*kept, *media]
            answer.body = b"" if call.method == "HEAD" else ended.body
        elif body is not None:
            answer.body = body
            answer.headers = written_back(answer.headers)
        return None

    def error(self, call: Call, refusal: Refusal, told: Reply) -> Reply | None:
        """The steps on a refusal or a failure. Where they fail, what would be told without them is told."""
        reason = refusal.reason
        said = {
            "status": refusal.status or reason.status,
            "reason": reason.code,
            "title": reason.title,
            "detail": refusal.detail or reason.detail,
        }
        answer = Answered(told.status, split_fields(told.fields), told.body)
        running = self._running("error", call, self._state(call, False), answer, said)
        try:
            ended = self.sides["error"].run(running)
            body = running.body.written() if running.body.changed else told.body
        except StepFailed:
            return None
        if isinstance(ended, Given):
            kept = [field for field in answer.headers if field[0] != b"content-type"]
            media = [(b"content-type", ended.media.encode())] if ended.body else []
            return Reply(ended.status, _fields([*kept, *media]), ended.body, told.dated)
        same = answer.status == told.status and body is told.body and _fields(answer.headers) == told.fields
        return None if same else Reply(answer.status, _fields(answer.headers), body, told.dated)


def _fields(headers: Sequence[tuple[bytes, bytes]]) -> bytes:
    return b"".join(field_line(name, value) for name, value in headers)


def _handle(holder: Any, now: float) -> str:
    """What stands for a secret in expressions; empty where it is not set."""
    return " ".join(map(handle_of, holder.accepted(now))) if holder is not None else ""
