"""Rate limit: at most so many calls in one or more windows, counted by a property of the call."""

from typing import Literal

from pydantic import Field, field_validator, model_validator

from tamarack.core.carrying.parts import Limit, Part
from tamarack.core.form_hints import hints
from tamarack.core.limits.store import Limiter, WhenAway
from tamarack.core.limits.window import Window, distinct, in_words
from tamarack.core.policies.kind import NAME_HELP, Policy, PolicyKind, Surroundings
from tamarack.core.policies.meter.keys import NAMED, check_named, counted_for, key_of
from tamarack.core.stages import Stage
from tamarack.core.types import Name

By = Literal[
    "caller", "credential", "user", "address", "header", "query", "claim", "path", "operation", "everyone"
]  # fmt: skip
MOST_HOLD_MS = 30_000
MOST_QUEUE = 1_000


class RateLimit(Policy):
    """Refuse calls beyond a number in each window."""

    kind: Literal["rate-limit"] = "rate-limit"
    name: Name = Field(default="rate-limit", title="Name", description=NAME_HELP)
    windows: tuple[Window, ...] = Field(
        title="At most",
        description="One in a line; all of them hold at once.",
    )
    by: By = Field(
        default="caller",
        title="Counted by",
        description="A call that lacks it is counted by its address (an IPv6 one by its /64).",
    )
    by_name: str = Field(
        default="",
        max_length=100,
        title="Name to count by",
        description="The name of the header, query parameter or claim.",
        json_schema_extra=hints(only=("by", NAMED)),
    )
    hold_ms: int = Field(
        default=0,
        ge=0,
        le=MOST_HOLD_MS,
        title="Hold for up to (ms)",
        description="Hold a call until its turn comes, at most this long, instead of refusing it; 0 refuses at once.",
        json_schema_extra=hints(rare=True),
    )
    queue: int = Field(
        default=20,
        ge=1,
        le=MOST_QUEUE,
        title="Held at once",
        description="How many calls may wait on a node for the same count; further ones are refused.",
        json_schema_extra=hints(rare=True),
    )
    when_away: WhenAway = Field(
        default="count on the node",
        title="While shared counters are away",
        description="Nodes count together. While they cannot, each counts by itself, or does what is chosen here.",
        json_schema_extra=hints(rare=True),
    )

    @field_validator("windows")
    @classmethod
    def _distinct(cls, windows: tuple[Window, ...]) -> tuple[Window, ...]:
        if not windows:
            raise ValueError("a rate limit needs at least one window, like '60 per minute'")
        if len(windows) > 6:
            raise ValueError(f"{len(windows)} windows: a rate limit has at most 6")
        return distinct(windows)

    @model_validator(mode="after")
    def _named(self) -> "RateLimit":
        check_named(self.by, self.by_name)
        return self


def _compile(policy: RateLimit, surroundings: Surroundings) -> list[Part]:
    id = f"{surroundings.placement}/{policy.name}"
    limiter = Limiter(
        id, policy.name, policy.windows, when_away=policy.when_away, hold_ms=policy.hold_ms, queue=policy.queue
    )
    reads = counted_for(policy.by, policy.by_name)
    return [Limit(stage=Stage.METER, limiter=limiter, key=key_of(policy.by, policy.by_name), reads=reads)]


_BY_BRIEF = {"caller": "", "credential": " by key", "user": " by end user", "everyone": ", all"}
_BY_WORDS = {
    "caller": "Each caller may call",
    "credential": "With each credential one may call",
    "user": "For each end user one may call",
    "address": "From each address one may call",
    "path": "Each path may be called",
    "operation": "Each operation may be called",
    "everyone": "All callers together may call",
}


def _brief(policy: RateLimit) -> str:
    by = _BY_BRIEF.get(policy.by, f" by {policy.by_name or policy.by}")
    held = ", held" if policy.hold_ms else ""
    return ", ".join(window.brief for window in policy.windows) + by + held


def _sentence(policy: RateLimit) -> str:
    words = _BY_WORDS.get(policy.by, f"With each value of the {policy.by} `{policy.by_name}` one may call")
    if not policy.hold_ms:
        return f"{words} {in_words(policy.windows)}."
    held = "1 call waits" if policy.queue == 1 else f"{policy.queue} calls wait"
    return f"{words} {in_words(policy.windows)}; beyond that up to {held}, each at most {policy.hold_ms} ms."


KIND = PolicyKind(
    kind="rate-limit",
    title="Rate limit",
    stage=Stage.METER,
    purpose="Refuse calls beyond a number in each second, minute, hour or day",
    model=RateLimit,
    compile=_compile,
    reasons=("over-rate", "not-metered"),
    limits_rate=True,
    brief=_brief,
    sentence=_sentence,
    on_fields=True,
)
