"""Answer check: status, header fields and the body against the operation's description."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, model_validator

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Change, Part
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.checking.answers import AnswerChecker
from tamarack.core.checking.misfit import in_one_line
from tamarack.core.form_hints import hints
from tamarack.core.http.heads import Answered
from tamarack.core.policies.guard.body_size import Size
from tamarack.core.policies.kind import NAME_HELP, Policy, PolicyKind, Surroundings
from tamarack.core.policies.shape.request_check import check_size
from tamarack.core.shaping.wanted import When, body_wanted, where_in_words
from tamarack.core.stages import Stage
from tamarack.core.types import Name


class AnswerCheck(Policy):
    """Check answers against the description."""

    kind: Literal["answer-check"] = "answer-check"
    name: Name = Field(default="answer-check", title="Name", description=NAME_HELP)
    otherwise: Literal["pass it on and count it", "answer 502"] = Field(
        default="pass it on and count it",
        title="An answer that does not fit",
        description="What is counted stands under Misfits; of one held back, staff alone read why.",
    )
    body: bool = Field(default=True, title="Body", description="JSON, by the schema for its status and media type.")
    fields: bool = Field(default=True, title="Header fields", description="Those required, and by their schemas.")
    unknown: bool = Field(
        default=True, title="What is not described", description="Statuses and media types that it does not name."
    )
    formats: bool = Field(
        default=True, title="Formats", description="Dates, addresses, UUIDs.", json_schema_extra=hints(rare=True)
    )
    at_most: Size = Field(
        default=1_000_000,
        title="Bodies up to",
        description="Like 1 MB; longer ones pass unchecked.",
        json_schema_extra=hints(rare=True),
    )
    when: When = ()

    @model_validator(mode="after")
    def _whole(self) -> AnswerCheck:
        check_size(self.at_most)
        return self


def _compile(policy: AnswerCheck, surroundings: Surroundings) -> list[Part]:
    described = surroundings.described
    if described is None:
        return []
    schemas = described.library.schemas("answer", policy.formats)
    said = described.messages
    checker = AnswerChecker(said, schemas, fields=policy.fields, body=policy.body, unknown=policy.unknown)
    holds_back, when, most = policy.otherwise == "answer 502", policy.when, policy.at_most
    misfit = REASONS["misfit-answer"]
    mine = object()

    def decide(call: Call) -> Refusal | None:
        """By the call as it came, before it is changed for the backend."""
        for condition in when:
            if not condition.holds(call):
                return None
        call.answer_marks = (*call.answer_marks, mine)
        return None

    def check(call: Call, answer: Answered) -> Refusal | None:
        if when and mine not in call.answer_marks:
            return None
        found = checker.misfits(call.method, answer, most)
        if not found:
            return None
        call.misfits = (*call.misfits, *found)
        return Refusal(misfit, policy=policy.name, note=in_one_line(found)) if holds_back else None

    reads_body = policy.body and any(one.bodies for one in said.answers)
    parts: list[Part] = [Change(stage=Stage.RETURN, answer=check, answer_body=most if reads_body else 0)]
    if when:
        parts.insert(0, Change(stage=Stage.SHAPE, request=decide, request_body=body_wanted(when)))
    return parts


KIND = PolicyKind(
    kind="answer-check",
    title="Answer check",
    stage=Stage.RETURN,
    purpose="Hold answers against the description: count what does not fit, or hold it back",
    model=AnswerCheck,
    compile=_compile,
    brief=lambda policy: "counts misfits" if policy.otherwise != "answer 502" else "502 for misfits",
    sentence=lambda policy: (
        f"Answers{where_in_words(policy.when)} are checked against the description: what does not fit is "
        f"{'held back, and answered 502' if policy.otherwise == 'answer 502' else 'counted'}."
    ),
    sentence_outside=lambda policy: "",
    reasons=("misfit-answer",),
    describes=True,
)
