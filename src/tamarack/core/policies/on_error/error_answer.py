"""Error answer: chosen refusals and failures are answered with another status or body, for callers who need it."""

from __future__ import annotations

from typing import Annotated, Literal

import orjson
from pydantic import AfterValidator, Field, StringConstraints, field_validator, model_validator

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import OnError, Part, Reply
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.form_hints import hints
from tamarack.core.http.fields import field_line
from tamarack.core.policies.answer.fixed_answer import FieldLine
from tamarack.core.policies.kind import NAME_HELP, Policy, PolicyKind, Surroundings, few
from tamarack.core.shaping.wanted import When, body_wanted, where_in_words
from tamarack.core.stages import Stage
from tamarack.core.text import in_words
from tamarack.core.types import Name, Readable
from tamarack.core.values.call_values import known_of
from tamarack.core.values.template import Template, TemplateFailed, check_template_text, into

ERROR = "error"
"""What a text may take from besides the call: the status, reason, title and detail that the caller would be told."""
_PROBLEM = b"content-type: application/problem+json\r\n"
_CLASSES = {"all": range(400, 600), "4xx": range(400, 500), "5xx": range(500, 600)}


def _text(value: str) -> str:
    return check_template_text(value, also=(ERROR,))


ErrorText = Annotated[str, StringConstraints(max_length=100_000), Readable, AfterValidator(_text)]


class ErrorAnswer(Policy):
    """Answer refusals and failures another way."""

    kind: Literal["error-answer"] = "error-answer"
    name: Name = Field(default="error-answer", title="Name", description=NAME_HELP)
    of: tuple[str, ...] = Field(
        default=("all",),
        min_length=1,
        max_length=60,
        title="Of",
        description="One a line: reasons like `over-rate` or `backend-away`, `4xx`, `5xx`, or `all`.",
        json_schema_extra=hints(rows=3),
    )
    status: int = Field(default=0, title="Status", description="0 to keep it; else like 503.")
    media: Annotated[str, StringConstraints(max_length=200, pattern=r"^[ -~]+$")] = Field(
        default="application/json", title="Content type", description="Like application/xml or text/plain."
    )
    body: ErrorText = Field(
        default="",
        title="Body",
        description="Empty to keep the problem that is told (RFC 9457). With values of the call, and"
        " `{{ error.status }}`, `{{ error.reason }}`, `{{ error.title }}`, `{{ error.detail }}`, `{{ call.id }}`.",
        json_schema_extra=hints(rows=5),
    )
    headers: tuple[FieldLine, ...] = Field(
        default=(),
        max_length=20,
        title="Header fields",
        description="One a line, beside those that the refusal carries.",
        json_schema_extra=hints(rows=2, rare=True),
    )
    when: When = ()

    @field_validator("of")
    @classmethod
    def _known(cls, value: tuple[str, ...]) -> tuple[str, ...]:
        for one in value:
            if one not in _CLASSES and one not in REASONS:
                raise ValueError(f"{one[:40]!r} is no reason; write one like over-rate, or 4xx, 5xx, all")
        return tuple(dict.fromkeys(value))

    @field_validator("status")
    @classmethod
    def _possible(cls, value: int) -> int:
        if value and (not 200 <= value <= 599 or value in (204, 205, 304)):
            raise ValueError(f"{value} cannot be the status of an error with a body; write one from 200 to 599")
        return value

    @model_validator(mode="after")
    def _something(self) -> ErrorAnswer:
        if not (self.status or self.body or self.headers):
            raise ValueError("it would change nothing; write a status, a body or a header field")
        return self

    @property
    def codes(self) -> frozenset[str]:
        """The reasons that it is for."""
        found = {code for code in self.of if code in REASONS}
        for name in self.of:
            statuses = _CLASSES.get(name, ())
            found |= {code for code, reason in REASONS.items() if reason.status in statuses}
        return frozenset(found)


def _compile(policy: ErrorAnswer, surroundings: Surroundings) -> list[Part]:
    codes, when, status = policy.codes, policy.when, policy.status
    body = Template(policy.body, into(policy.media))
    lines = [(line.partition(": ")[0].lower().encode(), Template(line.partition(": ")[2])) for line in policy.headers]
    names = body.names.union(*(value.names for _, value in lines))
    media = b"content-type: %b\r\n" % policy.media.encode()

    def answer(call: Call, refusal: Refusal, told: Reply) -> Reply | None:
        reason = refusal.reason
        if reason.code not in codes:
            return None
        for condition in when:
            if not condition.holds(call):
                return None
        known = known_of(call, names)
        known[ERROR] = {
            "status": str(status or refusal.status or reason.status),
            "reason": reason.code,
            "title": reason.title,
            "detail": refusal.detail or reason.detail,
        }
        try:
            fields = b"".join(field_line(name, value.made_for(call, known)) for name, value in lines)
            for name, value in refusal.headers:
                fields += field_line(name, value)
            if not policy.body:
                return Reply(status or told.status, fields + _PROBLEM, _with_status(told.body, status))
            return Reply(status or told.status, fields + media, body.made_for(call, known))
        except TemplateFailed:
            return None  # what would be told without it is better than nothing

    return [OnError(stage=Stage.ON_ERROR, answer=answer, request_body=body_wanted(when, policy.body, *policy.headers))]


def _with_status(problem: bytes, status: int) -> bytes:
    """A problem that names the status it is sent with (RFC 9457, 3.1.2)."""
    return orjson.dumps(orjson.loads(problem) | {"status": status}) if status else problem


def _sentence(policy: ErrorAnswer) -> str:
    what = {"all": "All refusals and failures", "4xx": "Refusals (4xx)", "5xx": "Failures (5xx)"}
    named = [what.get(one, f"`{one}`") for one in policy.of]
    status = f" with the status {policy.status}" if policy.status else ""
    body = f" as `{policy.media}`" if policy.body else ""
    return f"{in_words(named)}{where_in_words(policy.when)} are answered{status}{body} with what is typed here."


KIND = PolicyKind(
    kind="error-answer",
    title="Error answer",
    stage=Stage.ON_ERROR,
    purpose="Answer chosen refusals and failures with another status or body",
    model=ErrorAnswer,
    compile=_compile,
    brief=lambda policy: f"{few(list(policy.of))}{f' → {policy.status}' if policy.status else ''}",
    sentence=_sentence,
    sentence_outside=lambda policy: "",
)
