"""Time limits: how long a target may take for calls of an API or an operation, in place of what its backend says."""

from typing import Literal

from pydantic import Field, model_validator

from tamarack.core.carrying.parts import Part, Timing
from tamarack.core.policies.kind import NAME_HELP, Policy, PolicyKind, Surroundings
from tamarack.core.stages import Stage
from tamarack.core.text import in_words, time_in_words
from tamarack.core.types import Name

LONGEST_MS = 3_600_000


class TimeLimits(Policy):
    """Bound how long a target may take."""

    kind: Literal["time-limits"] = "time-limits"
    name: Name = Field(default="time-limits", title="Name", description=NAME_HELP)
    connect_ms: int = Field(
        default=0,
        ge=0,
        le=60_000,
        title="To take the connection, milliseconds",
        description="0 for as long as the backend says; so with those below.",
    )
    first_ms: int = Field(
        default=0,
        ge=0,
        le=LONGEST_MS,
        title="Until its answer begins, milliseconds",
        description="From when the request was sent.",
    )
    between_ms: int = Field(
        default=0,
        ge=0,
        le=LONGEST_MS,
        title="Between two pieces of its answer, milliseconds",
        description="While its body comes.",
    )
    whole_ms: int = Field(
        default=0,
        ge=0,
        le=LONGEST_MS,
        title="For the whole call, milliseconds",
        description="From its coming to the end of its answer, with all attempts; 0 for no such bound.",
    )

    @model_validator(mode="after")
    def _bounds_something(self) -> "TimeLimits":
        if not (self.connect_ms or self.first_ms or self.between_ms or self.whole_ms):
            raise ValueError("every limit is 0, so nothing is bounded; give at least one in milliseconds")
        return self


def _compile(policy: TimeLimits, surroundings: Surroundings) -> list[Part]:
    return [
        Timing(
            stage=Stage.FORWARD,
            connect_s=policy.connect_ms / 1000,
            first_s=policy.first_ms / 1000,
            between_s=policy.between_ms / 1000,
            whole_s=policy.whole_ms / 1000,
        )
    ]


def _sentence(policy: TimeLimits) -> str:
    said = []
    if policy.connect_ms:
        said.append(f"{time_in_words(policy.connect_ms)} to take the connection")
    if policy.first_ms:
        said.append(f"{time_in_words(policy.first_ms)} until its answer begins")
    if policy.between_ms:
        said.append(f"{time_in_words(policy.between_ms)} between two pieces of it")
    whole = f"the whole call may take {time_in_words(policy.whole_ms)}" if policy.whole_ms else ""
    if not said:
        return f"{whole[0].upper()}{whole[1:]}."
    return f"A target has {in_words(said)}{'; ' + whole if whole else ''}."


def _brief(policy: TimeLimits) -> str:
    if policy.whole_ms:
        return f"{time_in_words(policy.whole_ms)} in all"
    return time_in_words(policy.first_ms or policy.between_ms or policy.connect_ms)


KIND = PolicyKind(
    kind="time-limits",
    title="Time limits",
    stage=Stage.FORWARD,
    purpose="Bound how long a target may take",
    model=TimeLimits,
    compile=_compile,
    brief=_brief,
    sentence=_sentence,
    sentence_outside=lambda policy: (
        f"A call that is not answered within {time_in_words(policy.whole_ms)} fails." if policy.whole_ms else ""
    ),
    reasons=("backend-slow",),
    alone=True,
)
