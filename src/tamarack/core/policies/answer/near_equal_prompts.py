"""Near-equal prompts: the answer to a prompt is kept, and given again to one that asks the same."""

from typing import Annotated, Any, Literal

from pydantic import Field, PlainSerializer, model_validator

from tamarack.core.caching.kept import Rules
from tamarack.core.carrying.caching import query_key
from tamarack.core.carrying.parts import Keeping, Part
from tamarack.core.form_hints import hints
from tamarack.core.language_models.near_equal.question import Comparing
from tamarack.core.language_models.near_equal.wording import Synonyms
from tamarack.core.policies.answer.response_cache import (
    LONGEST_S,
    KeptSize,
    Whose,
    caller_part,
    seconds_in_words,
)
from tamarack.core.policies.kind import NAME_HELP, Policy, PolicyKind, Surroundings
from tamarack.core.policies.meter.token_count import reading
from tamarack.core.stages import Stage
from tamarack.core.types import Frozen, Name

HowAlike = Literal["by the same words", "by their meaning"]
_BY_MEANING: tuple[str, ...] = ("by their meaning",)
MOST_SAME = 200


class SameWords(Frozen):
    """One line: words that mean the same, like `leave, depart, set off`."""

    words: tuple[str, ...]

    @model_validator(mode="before")
    @classmethod
    def _from_text(cls, value: Any) -> Any:
        if not isinstance(value, str):
            return value
        words = tuple(dict.fromkeys(" ".join(word.split()) for word in value.split(",") if word.strip()))
        if len(words) < 2:
            raise ValueError(f"{value[:120]!r} is one alone; write at least two, with commas: leave, depart, set off")
        wrong = next((word for word in words if len(word) > 60 or not any(map(str.isalpha, word))), None)
        if wrong is not None:
            raise ValueError(f"{wrong[:80]!r} is no word or phrase of up to 60 characters")
        return {"words": words}

    def __str__(self) -> str:
        return ", ".join(self.words)


class NearEqualPrompts(Policy):
    """Give kept answers to prompts that ask the same."""

    kind: Literal["near-equal-prompts"] = "near-equal-prompts"
    name: Name = Field(default="near-equal-prompts", title="Name", description=NAME_HELP)
    alike: HowAlike = Field(
        default="by the same words",
        title="Prompts are the same",
        description="The last message of the user is compared; model, other messages and parameters must be equal."
        " By words, only case, politeness, spelling and the words below may differ. By meaning, a small model on the"
        " node compares, and a guard looks that numbers, names, denials and order are the same.",
    )
    nearest: float = Field(
        default=0.8,
        ge=0.6,
        le=1,
        title="Least nearness of meanings",
        description="From 0.6 to 1. Try prompts of your own first: the policy's page compares them.",
        json_schema_extra=hints(only=("alike", _BY_MEANING)),
    )
    same: tuple[Annotated[SameWords, PlainSerializer(str, return_type=str)], ...] = Field(
        default=(),
        max_length=MOST_SAME,
        title="Words that mean the same here",
        description="One group a line, like `leave, depart, set off`.",
    )
    own_time: int = Field(
        default=3_600,
        ge=1,
        le=LONGEST_S,
        title="Answers are kept for seconds",
        description="Like 3600 for an hour. Where the backend says no-store or private, they are not kept.",
    )
    whose: Whose = Field(
        default="each caller's own",
        title="A kept answer is",
        description="Let all callers share only where prompts hold nothing of their own.",
    )
    warmest: float = Field(
        default=0.2,
        ge=0,
        le=0.5,
        title="Highest temperature",
        description="From 0 to 0.5. A call that asks for a higher one wants answers that vary.",
    )
    unsaid: float = Field(
        default=1.0,
        ge=0,
        le=2,
        title="Temperature of a call that names none",
        description="What the model takes then; mostly 1.",
        json_schema_extra=hints(rare=True),
    )
    at_most: KeptSize = Field(
        default=200_000,
        title="Largest answer kept",
        description="Like 200 kB or 2 MB, up to 20 MB.",
        json_schema_extra=hints(rare=True),
    )
    wait_ms: int = Field(
        default=30_000,
        ge=0,
        le=120_000,
        title="Callers wait for another's answer for milliseconds",
        description="While one asks the model, those who ask in the same words wait for its answer; then they ask too."
        " Streams do not wait.",
        json_schema_extra=hints(rare=True),
    )

    @model_validator(mode="after")
    def _one_group_each(self) -> "NearEqualPrompts":
        seen: dict[str, str] = {}
        for group in self.same:
            for word in group.words:
                if word.lower() in seen:
                    raise ValueError(f"{word!r} stands in {seen[word.lower()]!r} and in {str(group)!r}; keep it in one")
                seen[word.lower()] = str(group)
        return self

    @property
    def by_meaning(self) -> bool:
        """Whether meanings are compared, not only words."""
        return self.alike == "by their meaning"

    @property
    def by_all(self) -> bool:
        """Whether callers are given what was answered to others."""
        return self.whose == "the same for all callers"

    @property
    def comparing(self) -> Comparing:
        """How prompts are compared."""
        return Comparing(
            Synonyms([group.words for group in self.same]),
            self.warmest,
            self.unsaid,
            self.nearest if self.by_meaning else 0.0,
        )


def _compile(policy: NearEqualPrompts, surroundings: Surroundings) -> list[Part]:
    return [
        reading(),
        Keeping(
            stage=Stage.ANSWER,
            policy=f"{surroundings.placement}/{policy.name}",
            identity=policy.model_dump_json(),
            rules=Rules(own_time=policy.own_time, at_most=policy.at_most),
            key_parts=() if policy.by_all else (caller_part,),
            headers=(),
            query=query_key("all"),
            posts=True,
            wait_s=policy.wait_ms / 1000,
            near=policy.comparing,
        ),
    ]


def _sentence(policy: NearEqualPrompts) -> str:
    same = f"means nearly the same ({policy.nearest:g} or more)" if policy.by_meaning else "asks in the same words"
    whose = "of any caller" if policy.by_all else "of the same caller"
    return (
        f"A prompt {whose} that {same} is given the answer of the first, for"
        f" {seconds_in_words(policy.own_time)}, up to the temperature {policy.warmest:g} and without tools."
    )


def _brief(policy: NearEqualPrompts) -> str:
    how = f"meaning from {policy.nearest:g}" if policy.by_meaning else "same words"
    return f"{seconds_in_words(policy.own_time)}, {how}"


def _outside(policy: NearEqualPrompts) -> str:
    return (
        f"An answer may be given again for {seconds_in_words(policy.own_time)} to a prompt that asks the same:"
        " `Cache-Status` says so, `Cache-Control: no-cache` asks the model all the same."
    )


def _risks(policy: NearEqualPrompts) -> list[str]:
    found = []
    if policy.by_meaning:
        found.append("takes prompts for the same by their meaning: one may be given the answer to another question")
    if policy.by_all:
        found.append("gives kept answers to all callers: no prompt may hold what is one caller's own")
    return found


KIND = PolicyKind(
    kind="near-equal-prompts",
    title="Near-equal prompts",
    stage=Stage.ANSWER,
    purpose="Keep answers of language models, and give them again to prompts that ask the same",
    model=NearEqualPrompts,
    compile=_compile,
    brief=_brief,
    sentence=_sentence,
    sentence_outside=_outside,
    alone=True,
    keeps=True,
    reads_prompts=True,
    reasons=("not-kept", "too-large"),
    risks=_risks,
)
