"""Plans side by side: one row for what they differ in, the same in console and portal."""

from collections.abc import Callable, Sequence

from tamarack.core.configuration import pricing
from tamarack.core.configuration.plans import ModelPrice, Plan
from tamarack.web.words import limits

Row = tuple[str, tuple[str, ...]]


def _number(value: int) -> str:
    return f"{value:,}".replace(",", "\u202f") if value else "–"


def _quota(plan: Plan) -> str:
    if plan.quota is None:
        return "none"
    since = "" if plan.quota_starts == "calendar" else " from the start of the subscription"
    after = "" if plan.quota_used_up == "refuse" else ", more is let through"
    return f"{_number(plan.quota_calls)} a {plan.quota_period}{since}{after}"


def _amount(name: str) -> Callable[[Plan], str]:
    def shown(plan: Plan) -> str:
        amount = getattr(plan, name)
        return f"{pricing.shown(amount)} {plan.currency}" if amount else "–"

    return shown


def _model_price(price: ModelPrice) -> str:
    return f"{price.model} {pricing.shown(price.prompt)} of prompts, {pricing.shown(price.completion)} of answers"


def _minutes(many: int) -> str:
    hours, rest = divmod(many, 60)
    return f"{hours} hour{'' if hours == 1 else 's'}" if hours and not rest else f"{_number(many)} minutes"


_ROWS: tuple[tuple[str, Callable[[Plan], str]], ...] = (
    ("Rates", lambda plan: limits(plan.limits) or "none"),
    ("For single APIs", lambda plan: "; ".join(f"{part.place} {limits(part.limits)}" for part in plan.parts) or "–"),
    ("Quota", _quota),
    ("Tokens", lambda plan: f"{_number(plan.token_budget)} a {plan.token_period}" if plan.token_budget else "–"),
    ("Credentials last", lambda plan: f"{plan.credential_days} days" if plan.credential_days else "until revoked"),
    (
        "Access tokens last",
        lambda plan: _minutes(plan.access_minutes) if plan.access_minutes else "–",
    ),
    ("Approval", lambda plan: "at once" if plan.approval == "automatic" else "by a person"),
    ("Price a month", lambda plan: "free" if plan.is_free else _amount("price_monthly")(plan)),
    ("Calls included", lambda plan: _number(plan.calls_included)),
    ("Per further thousand calls", _amount("price_per_thousand")),
    ("Tokens included", lambda plan: _number(plan.tokens_included)),
    ("Per thousand tokens", _amount("price_per_thousand_tokens")),
    ("Per thousand tokens, by model", lambda plan: "; ".join(map(_model_price, plan.model_prices)) or "–"),
)


def plan_table(plans: Sequence[Plan]) -> list[Row]:
    """A row for each thing that any of the plans says something of, with what each says."""
    rows = [(words, tuple(shown(plan) for plan in plans)) for words, shown in _ROWS]
    return [row for row in rows if any(cell != "–" for cell in row[1])]
