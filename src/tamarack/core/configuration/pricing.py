"""Prices: what a subscription's use of a plan costs in a month. All amounts are decimals, and exact until rounded.

Further thousands are charged for each thousand begun, so that one call more than is included costs a whole one.
"""

from collections.abc import Mapping
from dataclasses import dataclass
from decimal import ROUND_HALF_EVEN, Decimal

from tamarack.core.configuration.plans import Plan

THOUSAND = 1000


@dataclass(frozen=True, slots=True)
class Line:
    """One line of a charge: what for, how many of it, the price of one, and the amount, rounded."""

    what: str
    many: int
    each: Decimal
    amount: Decimal


@dataclass(frozen=True, slots=True)
class Charge:
    """What a month costs: its lines and their sum, in a currency."""

    currency: str
    lines: tuple[Line, ...]

    @property
    def total(self) -> Decimal:
        """The sum of the rounded lines, so that it is what a reader adds up."""
        return sum((line.amount for line in self.lines), Decimal("0.00"))


NO_MINOR_UNIT = frozenset(("CLP", "ISK", "JPY", "KRW", "PYG", "UGX", "VND", "XAF", "XOF", "XPF"))
THREE_PLACES = frozenset(("BHD", "IQD", "JOD", "KWD", "LYD", "OMR", "TND"))


def rounded(amount: Decimal, currency: str) -> Decimal:
    """An amount in the smallest unit of its currency (ISO 4217), half to even."""
    places = "1" if currency in NO_MINOR_UNIT else "0.001" if currency in THREE_PLACES else "0.01"
    return amount.quantize(Decimal(places), ROUND_HALF_EVEN)


def thousands_begun(many: int, included: int) -> int:
    """How many thousands beyond what is included were begun."""
    return -(-max(0, many - included) // THOUSAND)


def share_of_month(days: int, of: int) -> Decimal:
    """The share of a month of `of` days for which a subscription was in force for `days` of them."""
    if not 0 <= days <= of or of < 1:
        raise ValueError(f"{days} days of a month of {of}: give 0 to {of}")
    return Decimal(days) / Decimal(of)


Tokens = Mapping[str, tuple[int, int]]
"""Tokens of prompts and of completions, by model; an empty name where none was named."""


def charge(plan: Plan, calls: int, tokens: int | Tokens = 0, days: int = 1, of: int = 1) -> Charge:
    """What `calls` and `tokens` in one month cost under a plan that was in force for `days` of its `of` days.

    The monthly price and what is included are taken in proportion to the days; what is included is rounded up. Tokens
    of models that have prices of their own are charged by those, and by nothing else.
    """
    by_model: Tokens = {"": (tokens, 0)} if isinstance(tokens, int) else tokens
    own = {price.model: price for price in plan.model_prices}
    tokens = sum(sum(used) for model, used in by_model.items() if model not in own)
    if calls < 0 or tokens < 0:
        raise ValueError(f"{calls} calls and {tokens} tokens: numbers used are not below 0")
    share = share_of_month(days, of)
    lines = []
    if plan.price_monthly:
        lines.append(Line("month", 1, plan.price_monthly, rounded(plan.price_monthly * share, plan.currency)))
    for what, used, included, price in (
        ("thousand calls", calls, plan.calls_included, plan.price_per_thousand),
        ("thousand tokens", tokens, plan.tokens_included, plan.price_per_thousand_tokens),
    ):
        if price:
            many = thousands_begun(used, -(-included * days // of))
            if many:
                lines.append(Line(what, many, price, rounded(price * many, plan.currency)))
    for model, taken in sorted(by_model.items()):
        if model not in own:
            continue
        prices = (own[model].prompt, own[model].completion)
        for kind, number, each in zip(("prompt", "completion"), taken, prices, strict=True):
            many = thousands_begun(number, 0)
            if many and each:
                what = f"thousand {kind} tokens of {model}"
                lines.append(Line(what, many, each, rounded(each * many, plan.currency)))
    return Charge(plan.currency, tuple(lines))


def in_words(plan: Plan) -> str:
    """A plan's price for people: "free", "40 EUR a month with 100 000 calls, then 0.35 EUR per thousand"."""
    if plan.is_free:
        return "free"
    said = f"{shown(plan.price_monthly)} {plan.currency} a month" if plan.price_monthly else "no monthly price"
    if plan.price_per_thousand:
        included = f" with {plan.calls_included:,} calls".replace(",", " ") if plan.calls_included else ""
        said += f"{included}, then {shown(plan.price_per_thousand)} {plan.currency} per thousand"
    if plan.price_per_thousand_tokens:
        included = f" with {plan.tokens_included:,} tokens".replace(",", " ") if plan.tokens_included else ""
        price = f"{shown(plan.price_per_thousand_tokens)} {plan.currency} per thousand tokens"
        said += f"{included}, {'then ' if included else ''}{price}"
    for one in plan.model_prices:
        said += (
            f"; {one.model} {shown(one.prompt)} {plan.currency} per thousand tokens of prompts and"
            f" {shown(one.completion)} of completions"
        )
    return said


def shown(amount: Decimal) -> str:
    """An amount without needless noughts: 40, 0.35."""
    text = f"{amount:f}"
    return text.rstrip("0").rstrip(".") if "." in text else text
