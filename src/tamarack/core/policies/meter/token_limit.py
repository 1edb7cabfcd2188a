"""Token limit: at most so many tokens of a language model in one or more windows, or in a day, week or month."""

from typing import Literal

from pydantic import Field, field_validator, model_validator

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.metering import QuotaMeter
from tamarack.core.carrying.parts import Limit, Part
from tamarack.core.form_hints import hints
from tamarack.core.limits.quota import MOST_IN_A_QUOTA, OF_TOKENS, Quota, TimeZone, WhenUsedUp
from tamarack.core.limits.store import Limiter, WhenAway
from tamarack.core.limits.stretch import Period
from tamarack.core.limits.unit import TokenUnit
from tamarack.core.limits.window import Window, distinct, many_in_words
from tamarack.core.policies.kind import NAME_HELP, Policy, PolicyKind, Surroundings
from tamarack.core.policies.meter.keys import NAMED, check_named, counted_for, key_of
from tamarack.core.policies.meter.token_count import reading
from tamarack.core.stages import Stage
from tamarack.core.types import Name

By = Literal[
    "caller", "subscription", "credential", "user", "model", "address", "header", "query", "claim", "operation",
    "everyone",
]  # fmt: skip
Counts = Literal["prompt and completion", "prompt", "completion"]
_UNITS: dict[str, TokenUnit] = {
    "prompt and completion": "tokens",
    "prompt": "prompt tokens",
    "completion": "completion tokens",
}
_HAS_BUDGET = hints(rare=True)


class TokenLimit(Policy):
    """Refuse calls beyond a number of tokens."""

    kind: Literal["token-limit"] = "token-limit"
    name: Name = Field(default="token-limit", title="Name", description=NAME_HELP)
    windows: tuple[Window, ...] = Field(
        default=(),
        title="Tokens, at most",
        description="One in a line, like `20 000 per minute`; all of them hold at once.",
    )
    counts: Counts = Field(
        default="prompt and completion",
        title="Counts the tokens of",
        description="When a call comes, its prompt is estimated, and its answer counts as long as the call lets it be,"
        " else as answers of the model mostly are. What it took is settled when the answer is there.",
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
    budget: int = Field(
        default=0,
        ge=0,
        le=MOST_IN_A_QUOTA,
        title="Budget",
        description="Tokens in each of the calendar's days, weeks or months, kept over restarts; told at 80 and at"
        " 100 %. 0 for none.",
    )
    period: Period = Field(
        default="month",
        title="Budget's period",
        description="Begins with the calendar's.",
        json_schema_extra=_HAS_BUDGET,
    )
    time_zone: TimeZone = Field(
        default="UTC",
        title="Budget's time zone",
        description="Whose calendar, like `Europe/Oslo`.",
        json_schema_extra=_HAS_BUDGET,
    )
    when_used_up: WhenUsedUp = Field(
        default="refuse",
        title="When the budget is used up",
        description="Refuse, or let through and mark in the record.",
        json_schema_extra=_HAS_BUDGET,
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
        if len(windows) > 6:
            raise ValueError(f"{len(windows)} windows: a token limit has at most 6")
        return distinct(windows)

    @model_validator(mode="after")
    def _whole(self) -> "TokenLimit":
        if not self.windows and not self.budget:
            raise ValueError("a token limit needs a window, like '20 000 per minute', or a budget")
        check_named(self.by, self.by_name)
        return self

    @property
    def unit(self) -> TokenUnit:
        """What it counts."""
        return _UNITS[self.counts]

    @property
    def quota(self) -> Quota | None:
        """The budget by itself."""
        if not self.budget:
            return None
        return Quota(
            calls=self.budget,
            unit=self.unit,
            period=self.period,
            time_zone=self.time_zone,
            when_used_up=self.when_used_up,
        )


def _compile(policy: TokenLimit, surroundings: Surroundings) -> list[Part]:
    assert surroundings.counters is not None
    id = f"{surroundings.placement}/{policy.name}"
    key, told = key_of(policy.by, policy.by_name), counted_for(policy.by, policy.by_name)

    def reads(call: Call) -> list[tuple[str, str]]:
        prompt = call.prompt
        if prompt is None:
            return [("counts", "nothing: it asks no model")]
        named = [("model", prompt.model)] if prompt.model else []
        until = "as it bounds it" if prompt.bound else "as answers mostly are"
        return [*told(call), *named, ("prompt", f"about {prompt.tokens} tokens"),
                ("answer", f"up to {prompt.completion} tokens, {until}"),
                ("reserved", f"{prompt.reserves(policy.unit)} {policy.unit}")]  # fmt: skip

    parts: list[Part] = [reading()]
    if policy.windows:
        limiter = Limiter(id, policy.name, policy.windows, "over-tokens", when_away=policy.when_away, unit=policy.unit)
        parts.append(Limit(stage=Stage.METER, limiter=limiter, key=key, reads=reads))
    if policy.quota is not None:
        meter = QuotaMeter(
            policy.quota, f"{OF_TOKENS}{id}", policy.name, surroundings.counters, "over-tokens", policy.when_away
        )
        parts.append(Limit(stage=Stage.METER, quota=meter, key=key, reads=reads))
    return parts


_BY_WORDS = {
    "caller": "Each caller may use",
    "subscription": "Each subscription may use",
    "credential": "With each credential one may use",
    "user": "For each end user one may use",
    "model": "Of each model, all callers together may use",
    "address": "From each address one may use",
    "operation": "Each operation may use",
    "everyone": "All callers together may use",
}
_SHORT = {"tokens": "tokens", "prompt tokens": "prompt", "completion tokens": "completion"}


def _brief(policy: TokenLimit) -> str:
    by = {"caller": "", "everyone": ", all"}.get(policy.by, f" by {policy.by_name or policy.by}")
    said = [f"{window.brief.replace(' / ', f' {_SHORT[policy.unit]} / ', 1)}" for window in policy.windows]
    said += [policy.quota.brief.replace(policy.unit, _SHORT[policy.unit])] if policy.quota is not None else []
    return ", ".join(said) + by


def _sentence(policy: TokenLimit) -> str:
    words = _BY_WORDS.get(policy.by, f"With each value of the {policy.by} `{policy.by_name}` one may use")
    quota = policy.quota
    said = [many_in_words(policy.windows, policy.unit)] if policy.windows else []
    said += [quota.in_words] if quota is not None else []
    return f"{words} {', and '.join(said)}."


KIND = PolicyKind(
    kind="token-limit",
    title="Token limit",
    stage=Stage.METER,
    purpose="Refuse calls beyond a number of a language model's tokens in each minute, day or month",
    model=TokenLimit,
    compile=_compile,
    reasons=("over-tokens", "too-many-tokens", "too-large", "not-metered"),
    brief=_brief,
    sentence=_sentence,
    reads_prompts=True,
    limits_rate=True,
)
