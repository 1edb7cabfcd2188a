"""Answer fields: header fields of answers set, added, renamed and removed on their way back."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, field_validator

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Change, Part
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.form_hints import hints
from tamarack.core.http.heads import Answered
from tamarack.core.policies.kind import NAME_HELP, Policy, PolicyKind, Surroundings
from tamarack.core.shaping.field_edits import MOST_EDITS, FieldEdit, answer_problem, compiled, in_brief, in_full
from tamarack.core.shaping.wanted import When, body_wanted, where_in_words
from tamarack.core.stages import Stage
from tamarack.core.types import Name
from tamarack.core.values.template import TemplateFailed


class AnswerFields(Policy):
    """Change header fields of the answer."""

    kind: Literal["answer-fields"] = "answer-fields"
    name: Name = Field(default="answer-fields", title="Name", description=NAME_HELP)
    edits: tuple[FieldEdit, ...] = Field(
        min_length=1,
        max_length=MOST_EDITS,
        title="Changes",
        description="One a line, made in this order: `set header X-Ship: {{ path.ship }}`, `add header Vary: X-Ship`,"
        " `rename header X-Old to X-New`, `remove header Server`. Values are those of the call.",
        json_schema_extra=hints(rows=4),
    )
    when: When = ()

    @field_validator("edits")
    @classmethod
    def _possible(cls, value: tuple[FieldEdit, ...]) -> tuple[FieldEdit, ...]:
        for edit in value:
            if wrong := answer_problem(edit):
                raise ValueError(f"{edit}: {wrong}")
        return value


def _compile(policy: AnswerFields, surroundings: Surroundings) -> list[Part]:
    change, when = compiled(policy.edits), policy.when

    def step(call: Call, answer: Answered) -> Refusal | None:
        for condition in when:
            if not condition.holds(call):
                return None
        try:
            answer.headers, _ = change(answer.headers, b"", call)
        except TemplateFailed as error:
            return Refusal(REASONS["change-failed"], policy=policy.name, note=str(error))
        return None

    wanted = body_wanted(when, *(edit.value for edit in policy.edits))
    return [Change(stage=Stage.RETURN, answer=step, request_body=wanted)]


def _sentence(policy: AnswerFields) -> str:
    return f"On answers{where_in_words(policy.when)}: {in_full(policy.edits)}."


KIND = PolicyKind(
    kind="answer-fields",
    title="Answer fields",
    stage=Stage.RETURN,
    purpose="Set, add, rename or remove header fields of the answer",
    model=AnswerFields,
    compile=_compile,
    brief=lambda policy: in_brief(policy.edits),
    sentence=_sentence,
    sentence_outside=lambda policy: "",
    reasons=("change-failed",),
    on_fields=True,
)
