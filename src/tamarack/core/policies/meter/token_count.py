"""Token count: where a language model's answers say how many tokens a call took, so that they are recorded."""

from collections.abc import Sequence
from typing import Any, Literal

from pydantic import Field, field_validator

from tamarack.core.carrying.answer_values import documents_of
from tamarack.core.carrying.call import Call, Watching
from tamarack.core.carrying.parts import Part, Watch
from tamarack.core.http.fields import Header
from tamarack.core.json_pointer import at_pointer
from tamarack.core.policies.kind import NAME_HELP, Policy, PolicyKind, Surroundings
from tamarack.core.stages import Stage
from tamarack.core.types import Name

MOST_TOKENS = 1_000_000_000


class TokenCount(Policy):
    """Record the tokens that answers tell of."""

    kind: Literal["token-count"] = "token-count"
    name: Name = Field(default="token-count", title="Name", description=NAME_HELP)
    prompt: str = Field(
        default="/usage/prompt_tokens",
        max_length=200,
        title="Prompt tokens stand at",
        description="A JSON Pointer (RFC 6901) into the answer, or into each event of a stream. Answers and events over"
        " 1 MB are not looked into.",
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
            raise ValueError(f"{value!r} is not a JSON Pointer; it starts with /, like /usage/prompt_tokens")
        return value


def _number(value: Any) -> int:
    """A count as an answer says it: 0 where it is no whole number above 0."""
    if isinstance(value, bool) or not isinstance(value, int):
        return 0
    return min(MOST_TOKENS, max(0, value))


def _compile(policy: TokenCount, surroundings: Surroundings) -> list[Part]:
    def begin(call: Call, status: int, headers: Sequence[Header]) -> Watching | None:
        def note(document: Any) -> None:
            prompt, completion = (
                _number(at_pointer(document, place)) if place else 0 for place in (policy.prompt, policy.completion)
            )
            call.prompt_tokens = prompt or call.prompt_tokens  # of a stream, the last event that tells them counts
            call.completion_tokens = completion or call.completion_tokens

        return documents_of(headers, note)

    return [Watch(stage=Stage.METER, begin=begin)]


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
