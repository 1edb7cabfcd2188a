"""Products and plans: APIs packaged together, and what a subscriber gets of them for how much."""

import re
from collections.abc import Sequence
from decimal import Decimal
from typing import Annotated, Literal

from pydantic import BeforeValidator, Field, PlainSerializer, StringConstraints, field_validator, model_validator

from tamarack.core.configuration.audience import Audience
from tamarack.core.limits.quota import Quota, Starts, TimeZone, WhenUsedUp
from tamarack.core.limits.stretch import Period
from tamarack.core.limits.window import MOST, Window, distinct, in_words
from tamarack.core.types import Frozen, Name, OneLine, Text, Title

MOST_PARTS = 100
_MODEL_PRICE = re.compile(r"(\S+?)\s*:\s*(?:prompt\s+([\d.]+))?\s*,?\s*(?:completion\s+([\d.]+))?")


def _amount(value: object) -> object:
    if isinstance(value, str):
        value = value.strip().replace(",", ".").replace(" ", "")
        return value or "0"
    return str(value) if isinstance(value, float) else value


Money = Annotated[
    Decimal,
    BeforeValidator(_amount),
    Field(ge=0, le=10**9, max_digits=16, decimal_places=6),
    PlainSerializer(lambda amount: f"{amount:f}", return_type=str, when_used="json"),
]
"""An amount of money: exact, at most six places after the point; kept and written as text."""


class Part(Frozen):
    """What a plan sets for one API, or one operation of it, in place of its own rates.

    Its text is `api: 60 per minute` or `api get /path: 60 per minute, 5 per second`.
    """

    api: Name
    operation: str = ""
    """A method and path template; empty for the whole API."""
    limits: tuple[Window, ...] = Field(min_length=1)

    @model_validator(mode="before")
    @classmethod
    def _from_text(cls, value: object) -> object:
        if not isinstance(value, str):
            return value
        place, separator, limits = value.partition(": ")
        api, _, operation = place.strip().partition(" ")
        if not separator or not limits.strip():
            raise ValueError(
                f"{value!r} does not name a limit for an API; write it like 'positions: 5 per second' or"
                " 'fares post /quotes: 60 per minute'"
            )
        parts: list[str] = []
        for piece in limits.split(","):
            word = piece.strip()
            if parts and (word.startswith(("burst", "sliding"))):
                parts[-1] += f", {word}"
            else:
                parts.append(word)
        return {"api": api, "operation": " ".join(operation.split()), "limits": parts}

    _no_two_alike = field_validator("limits")(distinct)

    @field_validator("operation")
    @classmethod
    def _call(cls, operation: str) -> str:
        method, _, path = operation.partition(" ")
        return f"{method.lower()} {path}" if path else operation

    @property
    def place(self) -> str:
        """What it is for: an API's name, and the operation where it is for one."""
        return f"{self.api} {self.operation}".strip()

    def __str__(self) -> str:
        return f"{self.place}: {', '.join(map(str, self.limits))}"


PlanPart = Annotated[Part, PlainSerializer(str, return_type=str)]


def part_for(parts: Sequence[Part], api: str, operation: str) -> Part | None:
    """The part that speaks of an operation: its own, else its API's."""
    own = next((part for part in parts if part.api == api and part.operation == operation), None)
    return own or next((part for part in parts if part.api == api and not part.operation), None)


class ModelPrice(Frozen):
    """What a thousand tokens of a model cost, of prompts and of completions.

    Its text is `notices: prompt 0.01, completion 0.03`.
    """

    model: Annotated[str, StringConstraints(min_length=1, max_length=120), OneLine]
    prompt: Money = Decimal(0)
    completion: Money = Decimal(0)

    @model_validator(mode="before")
    @classmethod
    def _from_text(cls, value: object) -> object:
        if not isinstance(value, str):
            return value
        found = _MODEL_PRICE.fullmatch(value.strip())
        if found is None or not (found[2] or found[3]):
            raise ValueError(
                f"{value[:120]!r} is no price of a model; write it like 'notices: prompt 0.01, completion 0.03'"
            )
        return {"model": found[1], "prompt": found[2] or "0", "completion": found[3] or "0"}

    def __str__(self) -> str:
        return f"{self.model}: prompt {self.prompt:f}, completion {self.completion:f}"


ModelPriceLine = Annotated[ModelPrice, PlainSerializer(str, return_type=str)]


class Plan(Frozen):
    """What a subscriber gets: how much may be called, for how long a credential is good, who approves, the price.

    `limits` bind all calls of one subscription, but for those that a part speaks of: the operation's part, else
    the API's, holds in their place. The quota counts every call.
    """

    name: Name
    title: Title
    summary: Text = ""
    limits: tuple[Window, ...] = Field(
        default=(),
        title="Rates",
        description="One a line. All hold at once, for all calls of one subscription.",
    )
    parts: tuple[PlanPart, ...] = Field(
        default=(),
        max_length=MOST_PARTS,
        title="In their place, for single APIs or operations",
        description="One a line: `fares: 5 per second` or `fares post /quotes: 60 per minute`. It counts by itself.",
    )
    quota_calls: int = Field(
        default=0, ge=0, le=MOST, title="Calls in each period", description="The quota counts every call."
    )
    quota_period: Period = Field(default="month", title="Period")
    quota_starts: Starts = Field(
        default="calendar",
        title="Counted from",
        description="The start: of the calendar's period, or of the subscription.",
    )
    quota_time_zone: TimeZone = Field(
        default="UTC", title="Time zone", description="Whose calendar, like `Europe/Oslo`."
    )
    quota_used_up: WhenUsedUp = Field(
        default="refuse", title="When used up", description="Refuse, or let through and mark."
    )
    token_budget: int = Field(
        default=0,
        ge=0,
        le=10**12,
        title="Token budget",
        description="Tokens of language models in each period.",
    )
    token_period: Period = Field(
        default="month", title="Budget's period", description="Begins where the quota's periods would."
    )
    credential_days: int = Field(
        default=0,
        ge=0,
        le=3650,
        title="Credentials last (days)",
        description="The longest that a subscriber's credential stays valid.",
    )
    access_minutes: int = Field(
        default=0,
        ge=0,
        le=1_440,
        title="Access tokens last (minutes)",
        description="Of the sign-in service, for clients of the plan's subscribers.",
    )
    approval: Literal["automatic", "person"] = Field(
        default="automatic",
        title="Approval",
        description="In force at once, or after a person approved it under Subscribers.",
    )
    currency: Annotated[str, StringConstraints(pattern=r"^[A-Z]{3}$")] = Field(
        default="EUR", title="Currency", description="A code of ISO 4217."
    )
    price_monthly: Money = Field(default=Decimal(0), title="Price a month")
    calls_included: int = Field(default=0, ge=0, le=MOST, title="Calls included")
    price_per_thousand: Money = Field(
        default=Decimal(0), title="Per further thousand", description="For each thousand begun."
    )
    tokens_included: int = Field(default=0, ge=0, le=10**12, title="Tokens included")
    price_per_thousand_tokens: Money = Field(default=Decimal(0), title="Per thousand tokens")
    model_prices: tuple[ModelPriceLine, ...] = Field(
        default=(),
        max_length=MOST_PARTS,
        title="In its place, for single models",
        description="One a line, per thousand: `notices: prompt 0.01, completion 0.03`. What is included does not count"
        " for them.",
    )
    visible_to: Audience = ()

    _no_two_alike = field_validator("limits")(distinct)

    @field_validator("model_prices")
    @classmethod
    def _one_price_each(cls, prices: tuple[ModelPrice, ...]) -> tuple[ModelPrice, ...]:
        names = [price.model for price in prices]
        twice = next((name for name in names if names.count(name) > 1), None)
        if twice is not None:
            raise ValueError(f"{twice!r} has two prices; keep one")
        return prices

    @field_validator("parts")
    @classmethod
    def _one_each(cls, parts: tuple[Part, ...]) -> tuple[Part, ...]:
        places = [part.place for part in parts]
        twice = next((place for place in places if places.count(place) > 1), None)
        if twice is not None:
            raise ValueError(f"{twice!r} has two lines; put all of its limits on one, with commas between")
        return parts

    @property
    def quota(self) -> Quota | None:
        """The quota, where the plan has one."""
        if not self.quota_calls:
            return None
        return Quota(
            calls=self.quota_calls,
            period=self.quota_period,
            starts=self.quota_starts,
            time_zone=self.quota_time_zone,
            when_used_up=self.quota_used_up,
        )

    @property
    def tokens(self) -> Quota | None:
        """The budget of tokens, where the plan has one; used up, it does as the quota does."""
        if not self.token_budget:
            return None
        return Quota(
            calls=self.token_budget,
            unit="tokens",
            period=self.token_period,
            starts=self.quota_starts,
            time_zone=self.quota_time_zone,
            when_used_up=self.quota_used_up,
        )

    @property
    def is_free(self) -> bool:
        """Whether it costs nothing, however much is called."""
        return not (
            self.price_monthly or self.price_per_thousand or self.price_per_thousand_tokens or self.model_prices
        )

    def part_for(self, api: str, operation: str) -> Part | None:
        """The part that speaks of an operation: its own, else its API's."""
        return part_for(self.parts, api, operation)

    def limits_for(self, api: str, operation: str) -> tuple[Window, ...]:
        """The rates that hold for an operation."""
        part = self.part_for(api, operation)
        return part.limits if part is not None else self.limits

    def in_words(self, api: str = "", operation: str = "") -> str:
        """What the plan lets a subscription do, as the rest of a sentence."""
        limits = self.limits_for(api, operation)
        said = f"may call {in_words(limits)}" if limits else "sets no rate of its own"
        part = self.part_for(api, operation)
        if part is not None:
            said += f" (in place of the plan's own, for {part.operation or part.api})"
        quota, tokens = self.quota, self.tokens
        said = f"{said}, with {quota.in_words}" if quota is not None else said
        return f"{said}, and uses at most {tokens.in_words}" if tokens is not None else said


class Product(Frozen):
    """APIs packaged together, and the plans they are offered in."""

    name: Name
    title: Title
    summary: Text = ""
    apis: tuple[Name, ...] = ()
    visible_to: Audience = ()
    plans: tuple[Plan, ...] = ()

    def plan(self, name: str) -> Plan | None:
        """The plan so named, or None."""
        return next((plan for plan in self.plans if plan.name == name), None)
