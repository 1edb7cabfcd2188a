"""The models of an API as developers see them: under which plans each may be asked for, and what its tokens cost."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from tamarack.core.configuration.effective import held, in_force
from tamarack.core.configuration.model import Api, Configuration, Version
from tamarack.core.configuration.plans import Plan
from tamarack.core.configuration.pricing import shown
from tamarack.core.policies.permit.models import Models


class ModelUnder(NamedTuple):
    """One model under one plan: its price in words, and how many tokens the plan lets through."""

    model: str
    product: str
    """The product's title."""
    plan: str
    """The plan's title."""
    price: str
    budget: str
    """Empty where the plan sets none."""


def price_of(plan: Plan, model: str) -> str:
    """What a model's tokens cost under a plan, per thousand."""
    own = next((price for price in plan.model_prices if price.model == model), None)
    if own is not None:
        return f"{shown(own.prompt)} {plan.currency} prompt, {shown(own.completion)} {plan.currency} answer"
    if not plan.price_per_thousand_tokens:
        return "free"
    price = f"{shown(plan.price_per_thousand_tokens)} {plan.currency}"
    included = f"{plan.tokens_included:,}".replace(",", " ")
    return f"{price}, after {included} included" if plan.tokens_included else price


def models_shown(configuration: Configuration, api: Api, version: Version) -> list[ModelUnder]:
    """Every model that an API offers, under each plan that opens it; none where nothing says which there are.

    `configuration` is what the reader may see.
    """
    offered = _offered(configuration, api, version)
    plans = [(product, plan) for product in configuration.products_with(api.name) for plan in product.plans]
    return [
        ModelUnder(
            one.model,
            product.title,
            plan.title,
            price_of(plan, one.model),
            plan.tokens.brief if plan.tokens is not None else "",
        )
        for policy in offered
        for one in policy.offered
        for product, plan in plans
        if one.is_open_to(f"{product.name}/{plan.name}")
    ]


def _offered(configuration: Configuration, api: Api, version: Version) -> Sequence[Models]:
    """The policies that say which models there are, of the whole API or of its operations; each once."""
    places = [None, *version.operations]
    rows = [row.policy for place in places for row in in_force(held(configuration, api, version, place))]
    return list(dict.fromkeys(policy for policy in rows if isinstance(policy, Models)))
