"""Retries: a call whose attempt at a target failed is asked again, where that is safe."""

from typing import Annotated, Literal

from pydantic import Field

from tamarack.core.carrying.parts import Part, Retrying
from tamarack.core.form_hints import hints
from tamarack.core.policies.kind import NAME_HELP, Policy, PolicyKind, Surroundings
from tamarack.core.stages import Stage
from tamarack.core.text import in_words
from tamarack.core.types import Name

Status = Annotated[int, Field(ge=400, le=599)]


class Retries(Policy):
    """Ask again after a failure."""

    kind: Literal["retries"] = "retries"
    name: Name = Field(default="retries", title="Name", description=NAME_HELP)
    at_most: int = Field(
        default=1,
        ge=1,
        le=5,
        title="Further attempts, at most",
        description="Only calls that mean the same when they are sent twice (GET, HEAD, OPTIONS, PUT, DELETE, or with"
        " an Idempotency-Key), before anything of an answer went out; at another target if there is one.",
    )
    statuses: tuple[Status, ...] = Field(
        default=(502, 503, 504),
        max_length=20,
        title="Also after these answers",
        description="After a failed connection, no answer in time, or one cut off before it begins, in any case.",
    )
    share: int = Field(
        default=10,
        ge=1,
        le=100,
        title="Of a hundred calls at most",
        description="Retries in relation to all calls to the backend, so that they do not add to its trouble. Each node"
        " counts by itself; it begins with 10, and a quiet time saves up for 20.",
        json_schema_extra=hints(rare=True),
    )


def _compile(policy: Retries, surroundings: Surroundings) -> list[Part]:
    return [
        Retrying(stage=Stage.FORWARD, at_most=policy.at_most, statuses=frozenset(policy.statuses), share=policy.share)
    ]


def _sentence(policy: Retries) -> str:
    times = "once more" if policy.at_most == 1 else f"up to {policy.at_most} times more"
    after = f", or answers {in_words([str(one) for one in policy.statuses])}," if policy.statuses else ""
    return (
        f"When a target fails{after} a call that may be repeated is sent {times}, to another target if there is one; of"
        f" a hundred calls at most {policy.share}."
    )


KIND = PolicyKind(
    kind="retries",
    title="Retries",
    stage=Stage.FORWARD,
    purpose="Ask again when a target fails, where that is safe",
    model=Retries,
    compile=_compile,
    brief=lambda policy: f"{policy.at_most} more, at most {policy.share} %",
    sentence=_sentence,
    sentence_outside=lambda policy: "",
    alone=True,
)
