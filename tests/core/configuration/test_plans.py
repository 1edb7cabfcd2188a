"""Plans and prices: what a subscriber gets, at which amount, to the last cent."""

from decimal import Decimal
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from helpers import configuration
from tamarack.core.configuration.model import check
from tamarack.core.configuration.plans import Plan
from tamarack.core.configuration.pricing import charge, in_words, rounded, thousands_begun


def plan(**fields: Any) -> Plan:
    return Plan.model_validate({"name": "cutter", "title": "Cutter"} | fields)


PAID = plan(price_monthly="40", calls_included=100_000, price_per_thousand="0.35")


@pytest.mark.parametrize(
    ("calls", "total"),
    [(0, "40.00"), (100_000, "40.00"), (100_001, "40.35"), (101_000, "40.35"), (101_001, "40.70"), (250_500, "92.85")],
)
def test_each_further_thousand_begun_is_charged(calls: int, total: str) -> None:
    assert charge(PAID, calls).total == Decimal(total)


def test_half_a_month_costs_half_and_includes_half() -> None:
    half = charge(PAID, 50_001, days=15, of=30)
    assert [(line.what, line.many, str(line.amount)) for line in half.lines] == [
        ("month", 1, "20.00"), ("thousand calls", 1, "0.35"),
    ]  # fmt: skip


def test_tokens_are_charged_beside_calls_and_a_free_plan_charges_nothing() -> None:
    both = plan(price_per_thousand="1", tokens_included=5000, price_per_thousand_tokens="0.002")
    lines = charge(both, 1, tokens=7001).lines
    assert [(line.many, line.amount) for line in lines] == [(1, Decimal("1.00")), (3, Decimal("0.01"))]
    free = charge(plan(), 10**9, 10**9)
    assert (free.lines, free.total) == ((), Decimal("0.00"))
    assert in_words(plan()) == "free"
    assert in_words(PAID) == "40 EUR a month with 100 000 calls, then 0.35 EUR per thousand"


@pytest.mark.parametrize(
    ("amount", "currency", "shown"), [("0.125", "EUR", "0.12"), ("0.135", "EUR", "0.14"), ("2.5", "JPY", "2"), ("1.23456", "KWD", "1.235")]
)  # fmt: skip
def test_amounts_are_rounded_to_the_currencys_smallest_unit(amount: str, currency: str, shown: str) -> None:
    assert str(rounded(Decimal(amount), currency)) == shown


@given(st.integers(0, 10**7), st.integers(0, 10**6), st.integers(0, 10**6))
def test_more_calls_never_cost_less(calls: int, more: int, included: int) -> None:
    made = plan(price_monthly="9.99", calls_included=included, price_per_thousand="0.0301")
    assert charge(made, calls).total <= charge(made, calls + more).total
    begun = thousands_begun(calls, included)
    assert begun * 1000 >= calls - included
    assert begun == 0 or (begun - 1) * 1000 < calls - included


def test_numbers_that_cannot_be_are_refused() -> None:
    for wrong in ({"calls": -1}, {"calls": 1, "days": 3, "of": 2}):
        with pytest.raises(ValueError, match=r"-1|3 days"):
            charge(PAID, **wrong)
    for field, value in (
        ("price_monthly", "-1"),
        ("price_monthly", "1.0000001"),
        ("currency", "euro"),
        ("parts", ["x"]),
    ):
        with pytest.raises(ValidationError, match=field):
            plan(**{field: value})


def test_an_operations_own_rate_holds_before_its_apis_and_that_before_the_plans() -> None:
    made = plan(limits=["9 per second"], parts=["sailings: 5 per second, burst 20, 60 per minute", "sailings GET /ports: 1 per second"])  # fmt: skip
    said = {place: [str(one) for one in made.limits_for(*place)] for place in
            (("fares", "get /a"), ("sailings", "get /sailings"), ("sailings", "get /ports"))}  # fmt: skip
    assert list(said.values()) == [["9 per second"], ["5 per second, burst 20", "60 per minute"], ["1 per second"]]
    assert Plan.model_validate(made.model_dump(mode="json")) == made
    assert "in place of the plan's own" in made.in_words("sailings", "get /ports")


@pytest.mark.parametrize(("part", "words"), [("fares: 1 per second", "does not package"), ("sailings get /nowhere: 1 per day", "no operation 'get /nowhere'")])  # fmt: skip
def test_a_part_for_what_is_not_there_is_a_problem(part: str, words: str) -> None:
    plans = [{"name": "skiff", "title": "Skiff", "parts": [part]}]
    made = configuration(products=[{"name": "passage", "title": "Passage", "apis": ["sailings"], "plans": plans}])
    assert [words in problem.message for problem in check(made)] == [True]
