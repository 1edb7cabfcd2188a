"""Prompt guard: the longest prompt, bounds of parameters, and words refused or masked in prompts and answers."""

import re
from collections.abc import Sequence
from typing import Annotated, Any, Literal

from pydantic import Field, PlainSerializer, model_validator

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.forwarding import Filter
from tamarack.core.carrying.parts import Check, Filtering, Part
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.http.heads import Answered
from tamarack.core.json_pointer import holder_of
from tamarack.core.language_models.guarded_answer import GuardedAnswer, GuardedStream
from tamarack.core.language_models.prompt import Prompt
from tamarack.core.language_models.word_rules import MOST_RULES, RuleLine, Rules, WordRule
from tamarack.core.policies.kind import NAME_HELP, Policy, PolicyKind, Surroundings, few
from tamarack.core.policies.meter.token_count import reading
from tamarack.core.shaping.json_bodies import dump
from tamarack.core.stages import Stage
from tamarack.core.text import in_words
from tamarack.core.types import Frozen, Name

_BOUND = re.compile(r"([A-Za-z_][\w.-]{0,60})\s*:\s*(?:(none)|up to\s+(-?[\d.]+)|(-?[\d.]+)\s+to\s+(-?[\d.]+))")
_DEEPEST = 32


class Bound(Frozen):
    """One line: `max_tokens: up to 500`, `temperature: 0 to 1`, or `tools: none`."""

    name: str
    low: float | None = None
    high: float | None = None
    """Without either the parameter may not be there."""

    @model_validator(mode="before")
    @classmethod
    def _from_text(cls, value: Any) -> Any:
        if not isinstance(value, str):
            return value
        found = _BOUND.fullmatch(value.strip())
        if found is None:
            raise ValueError(
                f"{value[:120]!r} is no bound; write it like 'max_tokens: up to 500', 'temperature: 0 to 1' or"
                " 'tools: none'"
            )
        low, high = found[4], found[3] or found[5]
        return {"name": found[1], "low": low, "high": high}

    @model_validator(mode="after")
    def _in_order(self) -> "Bound":
        if self.low is not None and self.high is not None and self.low > self.high:
            raise ValueError(
                f"{self.name}: {self.low:g} to {self.high:g} lets nothing through; put the lower number first"
            )
        return self

    @property
    def said(self) -> str:
        """What may be, in words."""
        if self.high is None:
            return "none"
        return f"up to {self.high:g}" if self.low is None else f"{self.low:g} to {self.high:g}"

    def __str__(self) -> str:
        return f"{self.name}: {self.said}"

    def wrong(self, document: dict[str, Any]) -> str:
        """What is wrong with a request, in words; empty where it keeps the bound."""
        value = document.get(self.name)
        if value is None or (self.high is None and value == []):
            return ""
        if self.high is None:
            return f"{self.name!r} may not be asked for here"
        if isinstance(value, bool) or not isinstance(value, int | float):
            return f"{self.name!r} is no number, and may be {self.said}"
        fits = value <= self.high and (self.low is None or value >= self.low)
        return "" if fits else f"{self.name!r} is {value}, and may be {self.said}"


class PromptGuard(Policy):
    """Hold prompts and answers against rules."""

    kind: Literal["prompt-guard"] = "prompt-guard"
    name: Name = Field(default="prompt-guard", title="Name", description=NAME_HELP)
    longest: int = Field(
        default=20_000,
        ge=1,
        le=1_000_000,
        title="Longest prompt, in tokens",
        description="As estimated; a longer one is refused.",
    )
    bounds: tuple[Annotated[Bound, PlainSerializer(str, return_type=str)], ...] = Field(
        default=(),
        max_length=30,
        title="Bounds of parameters",
        description="One a line: `max_tokens: up to 500`, `temperature: 0 to 1`, `tools: none`. What a"
        " call does not name keeps every bound.",
    )
    rules: tuple[RuleLine, ...] = Field(
        default=(),
        max_length=MOST_RULES,
        title="Words",
        description="One a line: `refuse in prompts: launch code`, `mask in prompts: #### ####`, `mask in"
        " answers: skipper *`, `end in answers: internal only`. `#` is a digit, `*` the rest of a word.",
    )


def _compile(policy: PromptGuard, surroundings: Surroundings) -> list[Part]:
    numbered = {rule: place for place, rule in enumerate(policy.rules, 1)}
    prompts = [rule for rule in policy.rules if rule.where == "prompts"]
    answers = [rule for rule in policy.rules if rule.where == "answers"]
    looked_for = Rules(prompts) if prompts else None

    def refuse(detail: str, note: str) -> Refusal:
        return Refusal(REASONS["prompt-refused"], (), policy.name, note, detail)

    def run(call: Call) -> Refusal | None:
        prompt: Prompt | None = call.prompt
        if prompt is None:
            return None
        document = prompt.document
        if not isinstance(document, dict):
            return refuse("The request is no JSON object, so its prompt cannot be looked at.", "no JSON object")
        if prompt.tokens > policy.longest:
            told = f"The prompt has about {prompt.tokens} tokens, and may have {policy.longest}; send a shorter one."
            return refuse(told, f"about {prompt.tokens} tokens")
        wrong = [words for bound in policy.bounds if (words := bound.wrong(document))]
        if wrong:
            return refuse(f"The call asks for what it may not: {'; '.join(wrong)}.", "; ".join(wrong))
        if looked_for is not None:
            rule = _mask(document, prompt.shape.prompts, looked_for)
            if rule is not None:
                place = numbered[rule]
                told = f"The prompt holds words that are not let through here, by rule {place} of {policy.name!r}."
                return refuse(told, f"rule {place}, {rule}")
            call.body = prompt.body = dump(document)
        return None

    def reads(call: Call) -> list[tuple[str, str]]:
        return [("prompt", f"about {call.prompt.tokens} tokens")] if call.prompt is not None else []

    parts: list[Part] = [reading(), Check(stage=Stage.PERMIT, run=run, reads=reads)]
    if answers:
        ready = Rules(answers)

        def make(call: Call, answer: Answered) -> Filter | Refusal | None:
            if call.prompt is None or answer.status >= 300:
                return None
            if any(name == b"content-encoding" and value != b"identity" for name, value in answer.headers):
                note = "the answer is in a coding, so it cannot be held against rules"
                return Refusal(REASONS["answer-unreadable"], (), policy.name, note)

            def noted(rule: WordRule) -> None:
                call.note = f"{policy.name} ended the answer by rule {numbered[rule]}"

            media = next((value for name, value in answer.headers if name == b"content-type"), b"").strip().lower()
            made = GuardedStream if media.startswith(b"text/event-stream") else GuardedAnswer
            return made(ready, call.prompt.shape.said, noted)

        parts.append(Filtering(stage=Stage.RETURN, make=make))
    return parts


def _mask(document: dict[str, Any], places: Sequence[str], rules: Rules) -> WordRule | None:
    """Mask the texts below some places of a request; the rule that refuses one, where one does."""
    for place in places:
        found = holder_of(document, place)
        if found is not None:
            holder, name = found
            holder[name], rule = _masked(holder[name], rules, 0)
            if rule is not None:
                return rule
    return None


def _masked(value: Any, rules: Rules, depth: int) -> tuple[Any, WordRule | None]:
    if isinstance(value, str):
        return (value, None) if value.startswith("data:") else rules.masked(value)
    if depth >= _DEEPEST:
        return None, None  # nested deeper than anyone writes: it is not sent, for it was not looked at
    if isinstance(value, list):
        pairs = [_masked(one, rules, depth + 1) for one in value]
        return [made for made, _ in pairs], next((rule for _, rule in pairs if rule is not None), None)
    if isinstance(value, dict):
        named = {name: _masked(one, rules, depth + 1) for name, one in value.items()}
        rule = next((rule for _, rule in named.values() if rule is not None), None)
        return {name: made for name, (made, _) in named.items()}, rule
    return value, None


def _sentence(policy: PromptGuard) -> str:
    longest = f"{policy.longest:,}".replace(",", " ")
    said = [f"prompts may have {longest} tokens"]
    said += [f"`{bound}`" for bound in policy.bounds]
    many = len(policy.rules)
    said += [f"{many} rule{'' if many == 1 else 's'} over words hold"] if many else []
    return f"Of calls to models {in_words(said)}."


def _brief(policy: PromptGuard) -> str:
    said = [f"{policy.longest} tokens", *(str(bound) for bound in policy.bounds)]
    said += [f"{len(policy.rules)} rules"] if policy.rules else []
    return few(said)


KIND = PolicyKind(
    kind="prompt-guard",
    title="Prompt guard",
    stage=Stage.PERMIT,
    purpose="Bound prompts and their parameters, and refuse or mask words in prompts and answers",
    model=PromptGuard,
    compile=_compile,
    reasons=("prompt-refused", "too-large", "answer-unreadable"),
    brief=_brief,
    sentence=_sentence,
    sentence_outside=lambda policy: (
        f"Prompts may have {policy.longest} tokens" + "".join(f"; `{bound}`" for bound in policy.bounds) + "."
    ),
    reads_prompts=True,
)
