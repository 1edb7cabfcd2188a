"""Limit fields: which header fields tell callers what is left of their limits."""

from collections.abc import Callable
from typing import Literal

from pydantic import Field

from tamarack.core.carrying.parts import Part, Telling
from tamarack.core.limits.store import Taken
from tamarack.core.limits.told import nothing, standard, with_trio
from tamarack.core.policies.kind import NAME_HELP, Policy, PolicyKind, Surroundings
from tamarack.core.stages import Stage
from tamarack.core.types import Name

Send = Literal["RateLimit", "RateLimit and the older X-RateLimit trio", "none"]


class LimitFields(Policy):
    """Tell callers what is left, in the fields chosen."""

    kind: Literal["limit-fields"] = "limit-fields"
    name: Name = Field(default="limit-fields", title="Name", description=NAME_HELP)
    send: Send = Field(
        default="RateLimit and the older X-RateLimit trio",
        title="Send",
        description="The trio: `X-RateLimit-Limit`, `-Remaining`, and `-Reset` in seconds from now."
        " `Retry-After` is always sent with a refusal.",
    )


Write = Callable[[Taken], bytes]
WRITERS: dict[str, Write] = {"RateLimit": standard, "RateLimit and the older X-RateLimit trio": with_trio,
                             "none": nothing}  # fmt: skip


def _compile(policy: LimitFields, surroundings: Surroundings) -> list[Part]:
    return [Telling(stage=Stage.METER, write=WRITERS[policy.send])]


_BRIEF = {"RateLimit": "RateLimit", "none": "none"}
_SENTENCE = {
    "RateLimit": "Answers tell what is left of the tightest limit in `RateLimit` and `RateLimit-Policy`.",
    "none": "Answers do not tell what is left of limits.",
}

KIND = PolicyKind(
    kind="limit-fields",
    title="Limit fields",
    stage=Stage.METER,
    purpose="Which header fields tell what is left: the standard's, the older trio too, or none",
    model=LimitFields,
    compile=_compile,
    brief=lambda policy: _BRIEF.get(policy.send, "RateLimit and trio"),
    sentence=lambda policy: _SENTENCE.get(
        policy.send,
        "Answers tell what is left of the tightest limit in `RateLimit`, `RateLimit-Policy` and the older"
        " `X-RateLimit` trio.",
    ),
    alone=True,
)
