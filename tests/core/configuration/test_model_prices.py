"""Prices by model: tokens of a model with a price of its own are charged by that, prompts and completions apart."""

from decimal import Decimal
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from tamarack.core.configuration.plans import Plan
from tamarack.core.configuration.pricing import charge, in_words
from tamarack.core.traffic.statement import Use, make_statement


def plan(*prices: str, **more: Any) -> Plan:
    given: dict[str, Any] = {"name": "cutter", "title": "Cutter", "tokens_included": 1000, "model_prices": prices}
    return Plan.model_validate(given | {"price_per_thousand_tokens": "0.02"} | more)


def test_prompts_and_completions_of_a_model_have_their_own_prices() -> None:
    made = charge(
        plan("notices-long: prompt 0.1, completion 0.3"), 0, {"notices": (900, 1100), "notices-long": (2500, 500)}
    )
    assert [(line.what, line.many, line.amount) for line in made.lines] == [
        ("thousand tokens", 1, Decimal("0.02")),
        ("thousand prompt tokens of notices-long", 3, Decimal("0.30")),
        ("thousand completion tokens of notices-long", 1, Decimal("0.30")),
    ]
    assert "notices-long 0.1 EUR per thousand tokens of prompts and 0.3 of completions" in in_words(
        plan("notices-long: prompt 0.1, completion 0.3")
    )


@given(st.dictionaries(st.sampled_from(["", "a", "b"]), st.tuples(st.integers(0, 10**6), st.integers(0, 10**6))))
def test_without_prices_of_models_it_does_not_matter_which_was_used(used: dict[str, tuple[int, int]]) -> None:
    assert charge(plan(), 0, used) == charge(plan(), 0, sum(map(sum, used.values())))


def test_a_statement_charges_each_model_by_its_price() -> None:
    uses = [Use("desk", "notices/cutter", "announcements", 3, prompt_tokens=2000, completion_tokens=1000, model=model)
            for model in ("notices", "notices-long")]  # fmt: skip
    made = make_statement(
        "office", "Office", "2026-11", True, uses, {"notices/cutter": plan("notices-long: completion 0.5")}, {}
    )
    assert [(use["model"], use["calls"]) for use in made.as_data()["uses"]] == [("notices", 3), ("notices-long", 3)]
    lines = made.costs[0].charge.lines  # type: ignore[union-attr]
    assert [(line.what, line.many) for line in lines] == [
        ("thousand tokens", 2), ("thousand completion tokens of notices-long", 1)
    ]  # fmt: skip


@pytest.mark.parametrize(
    "price", ["notices", "notices:", "notices prompt 1", "notices: 5", "notices: prompt -1", "a: prompt x"]
)
def test_a_price_that_cannot_be_read_is_told(price: str) -> None:
    with pytest.raises(ValidationError, match=r"is no price of a model|Input should"):
        plan(price)


def test_a_model_has_one_price() -> None:
    with pytest.raises(ValidationError, match="'a' has two prices"):
        plan("a: prompt 1", "a: prompt 2")
