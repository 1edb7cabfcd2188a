"""Statements: what an organization used in a month, and what it costs.

Every call of the month stands in exactly one line, so that the lines add up to the calls that were recorded. Charged
are calls that were answered: those that were refused, or failed at the service, cost nothing.
"""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal
from typing import Any

from tamarack.core.configuration.plans import Plan
from tamarack.core.configuration.pricing import Charge, charge, rounded


@dataclass(frozen=True, slots=True, order=True)
class Use:
    """The calls of one application to one API under one plan (`product/plan`; empty: under none), of one model."""

    application: str
    plan: str
    api: str
    calls: int = 0
    refused: int = 0
    failed: int = 0
    prompt_tokens: int = 0
    completion_tokens: int = 0
    model: str = ""
    """The language model that was asked; each has its own line."""

    @property
    def charged(self) -> int:
        """The calls that count for the price."""
        return self.calls - self.refused - self.failed

    @property
    def tokens(self) -> int:
        return self.prompt_tokens + self.completion_tokens


@dataclass(frozen=True, slots=True)
class Cost:
    """What one application's use of one plan costs. No charge where the plan has no price any more, and why."""

    application: str
    plan: str
    title: str
    calls: int
    tokens: int
    days: int
    charge: Charge | None
    note: str = ""


@dataclass(frozen=True, slots=True)
class Adjustment:
    """An amount that is added, or taken off, by hand."""

    words: str
    amount: Decimal
    currency: str
    by: str = ""


@dataclass(frozen=True, slots=True)
class Statement:
    """One organization's month."""

    organization: str
    title: str
    month: str
    """Like 2026-11; months are those of UTC."""
    ended: bool
    """Whether the month was over when it was made."""
    uses: tuple[Use, ...]
    costs: tuple[Cost, ...]
    adjustments: tuple[Adjustment, ...]

    @property
    def calls(self) -> int:
        return sum(one.calls for one in self.uses)

    @property
    def charged(self) -> int:
        return sum(one.charged for one in self.uses)

    @property
    def tokens(self) -> int:
        return sum(one.tokens for one in self.uses)

    @property
    def is_empty(self) -> bool:
        """Whether nothing was used, in force or adjusted."""
        return not (self.uses or self.costs or self.adjustments)

    @property
    def unpriced(self) -> tuple[str, ...]:
        """The plans (`product/plan`) that were in force and have no price any more."""
        return tuple(cost.plan for cost in self.costs if cost.charge is None)

    @property
    def totals(self) -> dict[str, Decimal]:
        """What is to be paid, by currency."""
        found: dict[str, Decimal] = {}
        for cost in self.costs:
            if cost.charge is not None and cost.charge.lines:
                found[cost.charge.currency] = found.get(cost.charge.currency, Decimal(0)) + cost.charge.total
        for one in self.adjustments:
            found[one.currency] = found.get(one.currency, Decimal(0)) + one.amount
        return {currency: rounded(amount, currency) for currency, amount in sorted(found.items())}

    def as_data(self) -> dict[str, Any]:
        """The statement as JSON data; amounts are text, for they are exact."""
        return {
            "organization": self.organization,
            "title": self.title,
            "month": self.month,
            "ended": self.ended,
            "empty": self.is_empty,
            "calls": self.calls,
            "charged_calls": self.charged,
            "tokens": self.tokens,
            "uses": [
                {
                    "application": one.application,
                    "plan": one.plan,
                    "api": one.api,
                    "calls": one.calls,
                    "refused": one.refused,
                    "failed": one.failed,
                    "charged": one.charged,
                    "prompt_tokens": one.prompt_tokens,
                    "completion_tokens": one.completion_tokens,
                    "model": one.model,
                }
                for one in self.uses
            ],
            "costs": [
                {
                    "application": one.application,
                    "plan": one.plan,
                    "title": one.title,
                    "calls": one.calls,
                    "tokens": one.tokens,
                    "days": one.days,
                    "currency": one.charge.currency if one.charge is not None else "",
                    "lines": [
                        {"what": line.what, "many": line.many, "each": str(line.each), "amount": str(line.amount)}
                        for line in (one.charge.lines if one.charge is not None else ())
                    ],
                    "amount": str(one.charge.total) if one.charge is not None else None,
                    "note": one.note,
                }
                for one in self.costs
            ],
            "adjustments": [
                {"words": one.words, "amount": str(one.amount), "currency": one.currency} for one in self.adjustments
            ],
            "totals": {currency: str(amount) for currency, amount in self.totals.items()},
        }


def rows_of(body: Mapping[str, Any]) -> list[tuple[Any, ...]]:
    """A statement's data as a table (`COLUMNS`): uses, then what they cost, then adjustments and totals."""
    found: list[tuple[Any, ...]] = [
        ("use", one["application"], one["plan"], one["api"], one["calls"], one["charged"],
         one["prompt_tokens"] + one["completion_tokens"], "", "", "")
        for one in body["uses"]
    ]  # fmt: skip
    found += [
        ("price", cost["application"], cost["plan"], "", line["many"], "", "", line["what"], line["amount"],
         cost["currency"])
        for cost in body["costs"]
        for line in cost["lines"]
    ]  # fmt: skip
    found += [
        ("adjustment", "", "", "", "", "", "", one["words"], one["amount"], one["currency"])
        for one in body["adjustments"]
    ]
    totals = body["totals"] or {"": ""}
    found += [("total", "", "", "", body["calls"], body["charged_calls"], body["tokens"], "", amount, currency)
              for currency, amount in totals.items()]  # fmt: skip
    return found


COLUMNS = ("kind", "application", "plan", "api", "calls", "charged_calls", "tokens", "what", "amount", "currency")


def month_of(text: str) -> tuple[datetime, datetime]:
    """The first moment of a month like 2026-11, and that of the next. Raises ValueError."""
    try:
        first = date.fromisoformat(f"{text}-01")
    except ValueError:
        raise ValueError(f"{text!r} is no month; write it like 2026-11") from None
    following = (first.replace(day=28) + timedelta(days=4)).replace(day=1)
    midnight = datetime.min.time()
    return datetime.combine(first, midnight, UTC), datetime.combine(following, midnight, UTC)


def make_statement(
    organization: str,
    title: str,
    month: str,
    ended: bool,
    uses: Iterable[Use],
    plans: Mapping[str, Plan],
    days: Mapping[tuple[str, str], int],
    adjustments: Sequence[Adjustment] = (),
) -> Statement:
    """A month's statement. `plans` are by `product/plan`; `days` says on how many days an application was on a plan."""
    first, last = month_of(month)
    of = (last - first).days
    lines = tuple(sorted(uses))
    used: dict[tuple[str, str], list[Use]] = {key: [] for key in days}
    for one in lines:
        if one.plan:
            used.setdefault((one.application, one.plan), []).append(one)
    costs = []
    for (application, name), mine in sorted(used.items()):
        calls, tokens = sum(one.charged for one in mine), sum(one.tokens for one in mine)
        by_model: dict[str, tuple[int, int]] = {}
        for one in mine:
            prompt, completion = by_model.get(one.model, (0, 0))
            by_model[one.model] = (prompt + one.prompt_tokens, completion + one.completion_tokens)
        in_force = min(of, days.get((application, name), of if mine else 0))
        plan = plans.get(name)
        if plan is None:
            note = "the plan is no longer offered, and has no price any more; add what is due by hand"
            costs.append(Cost(application, name, name, calls, tokens, in_force, None, note))
            continue
        costs.append(
            Cost(application, name, plan.title, calls, tokens, in_force, charge(plan, calls, by_model, in_force, of))
        )
    return Statement(organization, title, month, ended, lines, tuple(costs), tuple(adjustments))
