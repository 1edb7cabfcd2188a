"""Request fields: header fields and query parameters set, added, renamed and removed on the way to the backend."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, field_validator

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Change, Part
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.form_hints import hints
from tamarack.core.policies.kind import NAME_HELP, Policy, PolicyKind, Surroundings
from tamarack.core.shaping.field_edits import MOST_EDITS, FieldEdit, compiled, in_brief, in_full, request_problem
from tamarack.core.shaping.wanted import When, body_wanted, where_in_words
from tamarack.core.stages import Stage
from tamarack.core.types import Name
from tamarack.core.values.template import TemplateFailed


class RequestFields(Policy):
    """Change fields of the request."""

    kind: Literal["request-fields"] = "request-fields"
    name: Name = Field(default="request-fields", title="Name", description=NAME_HELP)
    edits: tuple[FieldEdit, ...] = Field(
        min_length=1,
        max_length=MOST_EDITS,
        title="Changes",
        description="One a line, made in this order: `set header X-Ship: {{ path.ship }}`, `add query lang: en`,"
        " `rename header X-Old to X-New`, `remove query debug`. Values of the call: `path`, `query`, `header`, `body`,"
        " `claims`, `caller`, `call`; one that comes out empty sets nothing.",
        json_schema_extra=hints(rows=4),
    )
    when: When = ()

    @field_validator("edits")
    @classmethod
    def _possible(cls, value: tuple[FieldEdit, ...]) -> tuple[FieldEdit, ...]:
        for edit in value:
            if wrong := request_problem(edit):
                raise ValueError(f"{edit}: {wrong}")
        return value


def _compile(policy: RequestFields, surroundings: Surroundings) -> list[Part]:
    change, when = compiled(policy.edits), policy.when
    typed = any(edit.where == "header" and "content-type" in (edit.name, edit.to) for edit in policy.edits)

    def step(call: Call) -> Refusal | None:
        for condition in when:
            if not condition.holds(call):
                return None
        try:
            call.headers, call.query = change(call.headers, call.query, call)
        except TemplateFailed as error:
            return Refusal(REASONS["change-failed"], policy=policy.name, note=str(error))
        if typed:
            call.media = next((value for name, value in call.headers if name == b"content-type"), b"")
        return None

    wanted = body_wanted(when, *(edit.value for edit in policy.edits))
    return [Change(stage=Stage.SHAPE, request=step, request_body=wanted)]


def _sentence(policy: RequestFields) -> str:
    return f"Before the request goes on{where_in_words(policy.when)}: {in_full(policy.edits)}."


KIND = PolicyKind(
    kind="request-fields",
    title="Request fields",
    stage=Stage.SHAPE,
    purpose="Set, add, rename or remove header fields and query parameters of the request",
    model=RequestFields,
    compile=_compile,
    brief=lambda policy: in_brief(policy.edits),
    sentence=_sentence,
    sentence_outside=lambda policy: "",
    reasons=("change-failed",),
    on_fields=True,
)
