"""Request check: parameters, header fields and the body against the operation's description."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, model_validator

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Check, Part
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.checking.misfit import as_members, in_one_line
from tamarack.core.checking.requests import RequestChecker
from tamarack.core.form_hints import hints
from tamarack.core.policies.guard.body_size import Size, size_in_words
from tamarack.core.policies.kind import NAME_HELP, Policy, PolicyKind, Surroundings
from tamarack.core.shaping.wanted import When, body_wanted, where_in_words
from tamarack.core.stages import Stage
from tamarack.core.text import in_words
from tamarack.core.types import Name

LARGEST_CHECKED = 5_000_000
"""Bytes of a body that is checked."""


def check_size(value: int) -> int:
    """The size, where bodies of it are checked. Raises ValueError, in words."""
    if not 1 <= value <= LARGEST_CHECKED:
        raise ValueError(f"{size_in_words(value)}: bodies of at most {size_in_words(LARGEST_CHECKED)} are checked")
    return value


class RequestCheck(Policy):
    """Check requests against the description."""

    kind: Literal["request-check"] = "request-check"
    name: Name = Field(default="request-check", title="Name", description=NAME_HELP)
    otherwise: Literal["refuse", "pass it on and count it"] = Field(
        default="refuse",
        title="A request that does not fit",
        description="A refusal lists every problem; what is counted stands under Misfits.",
    )
    parameters: bool = Field(default=True, title="Parameters", description="In the path, query, header and cookies.")
    body: bool = Field(default=True, title="Body", description="JSON, by the schema for its media type.")
    unknown: Literal["pass it on and count it", "the same", "leave it alone"] = Field(
        default="pass it on and count it",
        title="What is not described",
        description="Query parameters and bodies that the description does not name.",
    )
    formats: bool = Field(
        default=True, title="Formats", description="Dates, addresses, UUIDs.", json_schema_extra=hints(rare=True)
    )
    at_most: Size = Field(
        default=1_000_000, title="Bodies up to", description="Like 1 MB.", json_schema_extra=hints(rare=True)
    )
    when: When = ()

    @model_validator(mode="after")
    def _whole(self) -> RequestCheck:
        check_size(self.at_most)
        if not (self.parameters or self.body):
            raise ValueError("choose what is checked: parameters, the body, or both")
        return self


def _compile(policy: RequestCheck, surroundings: Surroundings) -> list[Part]:
    described = surroundings.described
    if described is None:
        return []
    schemas = described.library.schemas("request", policy.formats)
    said = described.messages
    looks = policy.unknown != "leave it alone"
    checker = RequestChecker(said, schemas, parameters=policy.parameters, body=policy.body, unknown=looks)
    refuses, strict, when = policy.otherwise == "refuse", policy.unknown == "the same", policy.when
    misfit = REASONS["misfit-request"]
    largest = f"A body is checked here, and may have at most {size_in_words(policy.at_most)}."
    too_large = Refusal(REASONS["too-large"], policy=policy.name, detail=largest)

    def run(call: Call) -> Refusal | None:
        for condition in when:
            if not condition.holds(call):
                return None
        found = checker.misfits(call)
        if found:
            call.misfits = (*call.misfits, *found)
            if refuses:
                wrong = found if strict else [one for one in found if not one.undescribed]
                if wrong:
                    return Refusal(
                        misfit, policy=policy.name, note=in_one_line(wrong), detail=_detail(len(wrong)),
                        members=as_members(wrong),
                    )  # fmt: skip
        return too_large if refuses and checker.unread(call) else None

    reads_body = policy.body and bool(said.bodies)
    wanted = policy.at_most if reads_body else body_wanted(when)
    return [Check(stage=Stage.SHAPE, run=run, request_body=wanted)]


def _detail(many: int) -> str:
    what = "one thing in it does" if many == 1 else f"{many} things in it do"
    return f"The request is not what this operation's description says: {what} not fit; see errors."


def _sentence(policy: RequestCheck) -> str:
    what = in_words([words for words, on in (("parameters", policy.parameters), ("bodies", policy.body)) if on])
    then = "one that does not fit is refused" if policy.otherwise == "refuse" else "what does not fit is counted"
    return f"The {what} of requests{where_in_words(policy.when)} are checked against the description: {then}."


KIND = PolicyKind(
    kind="request-check",
    title="Request check",
    stage=Stage.SHAPE,
    purpose="Hold requests against the description: refuse what does not fit, or count it",
    model=RequestCheck,
    compile=_compile,
    brief=lambda policy: "refuses misfits" if policy.otherwise == "refuse" else "counts misfits",
    sentence=_sentence,
    sentence_outside=lambda policy: (
        "Requests that do not fit this description are refused, with every problem listed."
        if policy.otherwise == "refuse"
        else ""
    ),
    reasons=("misfit-request", "too-large"),
    describes=True,
)
