"""Prompt log: prompts and answers of calls to language models are kept for a time, masked, for staff to read."""

from typing import Annotated, Literal

from pydantic import Field, field_validator

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.forwarding import Filter
from tamarack.core.carrying.parts import Check, Filtering, Part
from tamarack.core.carrying.refusals import Refusal
from tamarack.core.form_hints import hints
from tamarack.core.http.heads import Answered
from tamarack.core.language_models.masks import Masks
from tamarack.core.language_models.prompt_log import LoggedPrompt, Logging, LogRules
from tamarack.core.language_models.word_rules import LONGEST_WORDS, MOST_RULES, WordRule
from tamarack.core.policies.kind import NAME_HELP, Policy, PolicyKind, Surroundings
from tamarack.core.policies.meter.token_count import reading
from tamarack.core.stages import Stage
from tamarack.core.types import Name, OneLine

MOST_DAYS = 90
_Words = Annotated[str, Field(min_length=2, max_length=LONGEST_WORDS), OneLine]


class PromptLog(Policy):
    """Keep prompts for staff to read."""

    kind: Literal["prompt-log"] = "prompt-log"
    name: Name = Field(default="prompt-log", title="Name", description=NAME_HELP)
    days: int = Field(
        default=7,
        ge=1,
        le=MOST_DAYS,
        title="Days that they are kept",
        description="Up to 90; then they are deleted, whatever becomes of the policy.",
    )
    keeps: Literal["prompts and answers", "prompts"] = Field(
        default="prompts and answers",
        title="Kept",
        description="An answer as its caller got it: after rules over its words.",
    )
    share: int = Field(
        default=100,
        ge=1,
        le=100,
        title="Of a hundred calls",
        description="Some of them are often enough.",
    )
    usual: bool = Field(
        default=True,
        title="Mask what mostly is someone's own",
        description="Mail addresses, numbers of seven digits and more, and what looks like a credential.",
    )
    masked: tuple[_Words, ...] = Field(
        default=(),
        max_length=MOST_RULES,
        title="Mask these too",
        description="One a line: `skipper *`, `booking ######`. `#` is a digit, `*` the rest of a word.",
    )
    longest: int = Field(
        default=10_000,
        ge=100,
        le=50_000,
        title="Characters kept of each",
        description="Of a longer prompt the last messages are kept, of a longer answer its beginning.",
        json_schema_extra=hints(rare=True),
    )

    @field_validator("masked")
    @classmethod
    def _can_be_found(cls, values: tuple[str, ...]) -> tuple[str, ...]:
        for value in values:
            WordRule(do="mask", where="prompts", words=value)
        return tuple(dict.fromkeys(values))


def _compile(policy: PromptLog, surroundings: Surroundings) -> list[Part]:
    rules = LogRules(
        f"{surroundings.placement}/{policy.name}",
        Masks(policy.masked, policy.usual),
        policy.days,
        policy.keeps == "prompts and answers",
        policy.longest,
    )
    every, share = policy.share >= 100, policy.share

    def begin(call: Call) -> Refusal | None:
        prompt = call.prompt
        # The end of a call's id counts calls, so a share of them is told by it.
        if prompt is not None and (every or int(call.id[-4:], 16) % 100 < share):
            prompt.logged = LoggedPrompt(rules)
        return None

    def make(call: Call, answer: Answered) -> Filter | Refusal | None:
        logged = call.prompt.logged if call.prompt is not None else None
        if logged is None or not logged.takes_answer:
            return None
        logged.begin(call.prompt, answer.headers)
        return Logging(logged)

    return [
        reading(),
        Check(stage=Stage.PERMIT, run=begin, first=True),
        Filtering(stage=Stage.RETURN, make=make, last=True),
    ]


def _what(policy: PromptLog) -> str:
    return "Prompts and answers" if policy.keeps == "prompts and answers" else "Prompts"


def _masks(policy: PromptLog) -> str:
    told = ["mail addresses, long numbers and credentials"] if policy.usual else []
    many = len(policy.masked)
    told += [f"{many} pattern{'' if many == 1 else 's'} of words"] if many else []
    return f", with {' and '.join(told)} masked" if told else ", as they are"


def _sentence(policy: PromptLog) -> str:
    days = "a day" if policy.days == 1 else f"{policy.days} days"
    of = "" if policy.share == 100 else f" of {policy.share} in a hundred calls"
    return f"{_what(policy)}{of} are kept for {days}{_masks(policy)}, for staff to read."


def _risks(policy: PromptLog) -> list[str]:
    days = "a day" if policy.days == 1 else f"{policy.days} days"
    masked = "" if policy.usual else ", with mail addresses, numbers and credentials in them"
    return [f"keeps what callers write to models for {days}{masked}"]


KIND = PolicyKind(
    kind="prompt-log",
    title="Prompt log",
    stage=Stage.RETURN,
    purpose="Keep prompts and answers for a time, masked, for staff to read",
    model=PromptLog,
    compile=_compile,
    brief=lambda policy: f"{policy.days} d, {'masked' if policy.usual or policy.masked else 'as they are'}",
    sentence=_sentence,
    sentence_outside=lambda policy: (
        f"{_sentence(policy).removesuffix(', for staff to read.')}, for the team that runs it."
    ),
    alone=True,
    reads_prompts=True,
    reasons=("too-large",),
    risks=_risks,
)
