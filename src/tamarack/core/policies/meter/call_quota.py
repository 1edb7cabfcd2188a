"""Quota: so many calls in each day, week or month, counted by a property of the call, kept over restarts."""

from typing import Literal

from pydantic import Field, model_validator

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.metering import QuotaMeter
from tamarack.core.carrying.parts import Limit, Part
from tamarack.core.form_hints import hints
from tamarack.core.limits.quota import Quota, Starts, TimeZone, WhenUsedUp
from tamarack.core.limits.store import WhenAway
from tamarack.core.limits.stretch import Period
from tamarack.core.limits.window import MOST
from tamarack.core.policies.kind import NAME_HELP, Policy, PolicyKind, Surroundings
from tamarack.core.policies.meter.keys import KEYS
from tamarack.core.stages import Stage
from tamarack.core.types import Name

By = Literal["caller", "credential", "user", "address", "operation", "everyone"]


class CallQuota(Policy):
    """So many calls a day, week or month."""

    kind: Literal["quota"] = "quota"
    name: Name = Field(default="quota", title="Name", description=NAME_HELP)
    calls: int = Field(ge=1, le=MOST, title="Calls", description="In each period; told at 80 and at 100 %.")
    period: Period = Field(default="month", title="Period", description="What the calls are counted in.")
    starts: Starts = Field(
        default="calendar",
        title="Counted from",
        description="The calendar's days, weeks and months, or those since the subscription was made (the"
        " calendar's, in UTC, where there is none).",
    )
    time_zone: TimeZone = Field(
        default="UTC",
        title="Time zone",
        description="Whose calendar, like `Europe/Oslo`.",
        json_schema_extra=hints(only=("starts", ("calendar",))),
    )
    by: By = Field(
        default="caller",
        title="Counted by",
        description="A call that lacks it is counted by its address (an IPv6 one by its /64).",
    )
    when_used_up: WhenUsedUp = Field(
        default="refuse", title="When used up", description="Refuse, or let through and mark in the record."
    )
    when_away: WhenAway = Field(
        default="count on the node",
        title="While shared counters are away",
        description="Nodes count together. While they cannot, each counts by itself, or does what is chosen here.",
        json_schema_extra=hints(rare=True),
    )

    @model_validator(mode="after")
    def _of_a_subscription(self) -> "CallQuota":
        if self.starts == "subscription" and self.by not in ("caller", "credential"):
            raise ValueError(
                f"counted by {self.by} there is no one subscription to count from; count by caller or credential,"
                " or from the calendar"
            )
        return self

    @property
    def quota(self) -> Quota:
        """The quota by itself."""
        zone = self.time_zone if self.starts == "calendar" else "UTC"
        return Quota(
            calls=self.calls, period=self.period, starts=self.starts, time_zone=zone, when_used_up=self.when_used_up
        )


def _compile(policy: CallQuota, surroundings: Surroundings) -> list[Part]:
    assert surroundings.counters is not None
    id = f"{surroundings.placement}/{policy.name}"
    meter = QuotaMeter(policy.quota, id, policy.name, surroundings.counters, when_away=policy.when_away)
    key = KEYS[policy.by]

    def reads(call: Call) -> list[tuple[str, str]]:
        return [("counted for", key(call).removeprefix("=") or "everyone")]

    return [Limit(stage=Stage.METER, quota=meter, key=key, reads=reads)]


_BY_WORDS = {
    "caller": "Each caller has",
    "credential": "Each credential has",
    "user": "Each end user has",
    "address": "Each address has",
    "operation": "Each operation has",
    "everyone": "All callers together have",
}


def _brief(policy: CallQuota) -> str:
    by = {"caller": "", "everyone": ", all"}.get(policy.by, f" by {policy.by}")
    return policy.quota.brief + by


KIND = PolicyKind(
    kind="quota",
    title="Quota",
    stage=Stage.METER,
    purpose="So many calls in each day, week or month, kept over restarts, with word at 80 and 100 %",
    model=CallQuota,
    compile=_compile,
    reasons=("over-quota", "not-metered"),
    brief=_brief,
    sentence=lambda policy: f"{_BY_WORDS[policy.by]} {policy.quota.in_words}.",
    on_fields=True,
)
