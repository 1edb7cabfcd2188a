"""Token count: where a language model's answers say how many tokens a call took, so that they are recorded."""

from collections.abc import Callable
from typing import Any, Literal

import orjson
from pydantic import Field, field_validator

from tamarack.core.carrying.stages import Stage
from tamarack.core.policies.kind import Compiled, Policy, PolicyKind, Surroundings
from tamarack.core.policies.meter.call_cost import LARGEST_READ, at_pointer
from tamarack.core.types import Name

MOST_TOKENS = 1_000_000_000

TokensOf = Callable[[bytes | None], tuple[int, int]]


class TokenCount(Policy):
    """Record the tokens that answers tell of."""

    kind: Literal["token-count"] = "token-count"
    name: Name = Field(default="token-count", title="Name", description="Replaces one so named further out.")
    prompt: str = Field(
        default="/usage/prompt_tokens",
        max_length=200,
        title="Prompt tokens stand at",
        description="A JSON Pointer (RFC 6901) into the answer. Answers over 1 MB, or that are streamed, are not"
        " looked into.",
    )
    completion: str = Field(
        default="/usage/completion_tokens",
        max_length=200,
        title="Completion tokens stand at",
        description="A JSON Pointer into the answer; empty where there are none.",
    )

    @field_validator("prompt", "completion")
    @classmethod
    def _pointer(cls, value: str) -> str:
        if value and not value.startswith("/"):
            raise ValueError(f"{value!r} is no JSON Pointer; it starts with /, like /usage/prompt_tokens")
        return value


def _number(value: Any) -> int:
    """A count as an answer says it: 0 where it is no whole number above 0."""
    if isinstance(value, bool) or not isinstance(value, int):
        return 0
    return min(MOST_TOKENS, max(0, value))


def _compile(policy: TokenCount, surroundings: Surroundings) -> Compiled:
    def tokens_of(body: bytes | None) -> tuple[int, int]:
        if not body or len(body) > LARGEST_READ:
            return 0, 0
        try:
            document = orjson.loads(body)
        except ValueError:
            return 0, 0
        return tuple(
            _number(at_pointer(document, place)) if place else 0 for place in (policy.prompt, policy.completion)
        )  # type: ignore[return-value]

    return Compiled(tokens_of=tokens_of)


def _sentence(policy: TokenCount) -> str:
    places = " and ".join(f"`{place}`" for place in (policy.prompt, policy.completion) if place)
    return f"The tokens that its answer tells at {places} are recorded." if places else "No tokens are recorded."


KIND = PolicyKind(
    kind="token-count",
    title="Token count",
    stage=Stage.METER,
    purpose="Record the tokens that a language model's answers tell of",
    model=TokenCount,
    compile=_compile,
    brief=lambda policy: f"tokens at {policy.prompt or policy.completion}",
    sentence=_sentence,
    alone=True,
)
