"""Cost of a call: how many calls one call of an operation counts as, under every limit that holds for it."""

from typing import Literal

from pydantic import Field

from tamarack.core.model import Name
from tamarack.core.policies.kind import Compiled, Policy, PolicyKind, Surroundings
from tamarack.core.stages import Stage


class CallCost(Policy):
    """Count each call as several."""

    kind: Literal["cost"] = "cost"
    name: Name = Field(default="cost", title="Name", description="Replaces one so named further out.")
    counts_as: int = Field(
        ge=1, le=10_000, title="Counts as", description="Calls that one call counts as, under every limit."
    )


def _compile(policy: CallCost, surroundings: Surroundings) -> Compiled:
    return Compiled(cost=policy.counts_as)


KIND = PolicyKind(
    kind="cost",
    title="Cost of a call",
    stage=Stage.METER,
    purpose="Count each call as several, under every limit that holds",
    model=CallCost,
    compile=_compile,
    brief=lambda policy: f"counts as {policy.counts_as}",
    sentence=lambda policy: f"Each call counts as {policy.counts_as} under every limit.",
    alone=True,
)
