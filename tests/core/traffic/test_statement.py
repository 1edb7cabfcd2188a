"""Statements: every call in one line, priced by the plan for the days it was in force, adjusted, and exact."""

from decimal import Decimal

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tamarack.core.configuration.plans import Plan
from tamarack.core.traffic.statement import COLUMNS, Adjustment, Use, make_statement, month_of, rows_of

CUTTER = Plan.model_validate(
    {"name": "cutter", "title": "Cutter", "price_monthly": "40", "calls_included": 3000, "price_per_thousand": "0.35",
     "price_per_thousand_tokens": "0.02", "tokens_included": 300}
)  # fmt: skip
SKIFF = Plan.model_validate({"name": "skiff", "title": "Skiff"})
PLANS = {"passage/cutter": CUTTER, "passage/skiff": SKIFF}


def made(*uses: Use, days: dict[tuple[str, str], int] | None = None, adjusted: tuple[Adjustment, ...] = ()):  # type: ignore[no-untyped-def]
    return make_statement("tern-trips", "Tern Trips", "2026-11", True, uses, PLANS, days or {}, adjusted)


def test_answered_calls_are_charged_and_refused_or_failed_ones_are_not() -> None:
    found = made(Use("planner", "passage/cutter", "sailings", 5000, refused=400, failed=100),
                 days={("planner", "passage/cutter"): 30})  # fmt: skip
    assert (found.calls, found.charged) == (5000, 4500)
    (cost,) = found.costs
    assert cost.charge is not None
    assert [(line.what, line.many, line.amount) for line in cost.charge.lines] == [
        ("month", 1, Decimal("40.00")),
        ("thousand calls", 2, Decimal("0.70")),
    ]
    assert found.totals == {"EUR": Decimal("40.70")}


def test_a_plan_of_part_of_the_month_costs_that_part() -> None:
    found = made(Use("planner", "passage/cutter", "sailings", 900), days={("planner", "passage/cutter"): 15})
    assert found.totals == {"EUR": Decimal("20.00")}
    assert made(days={("planner", "passage/cutter"): 30}).totals == {"EUR": Decimal("40.00")}  # also without a call


def test_calls_to_several_apis_under_one_plan_share_what_is_included() -> None:
    uses = [Use("planner", "passage/cutter", api, 2000) for api in ("sailings", "fares")]
    (cost,) = made(*uses, days={("planner", "passage/cutter"): 30}).costs
    assert cost.charge is not None
    assert cost.charge.lines[1].many == 1


def test_tokens_are_charged_too() -> None:
    found = made(Use("desk", "passage/cutter", "announcements", 10, prompt_tokens=900, completion_tokens=1500),
                 days={("desk", "passage/cutter"): 30})  # fmt: skip
    assert found.tokens == 2400
    assert found.totals == {"EUR": Decimal("40.06")}


def test_a_plan_that_is_gone_has_no_price_and_says_so() -> None:
    (cost,) = made(Use("planner", "passage/old", "sailings", 10)).costs
    assert cost.charge is None
    assert "no longer offered" in cost.note


def test_adjustments_count_by_currency() -> None:
    adjusted = (Adjustment("outage", Decimal("-12.5"), "EUR"), Adjustment("help", Decimal(7), "NOK"))
    found = made(days={("planner", "passage/cutter"): 30}, adjusted=adjusted)
    assert found.totals == {"EUR": Decimal("27.50"), "NOK": Decimal("7.00")}


_USES = st.lists(
    st.builds(
        Use,
        application=st.sampled_from(["a", "b", ""]),
        plan=st.sampled_from(["passage/cutter", "passage/skiff", "passage/old", ""]),
        api=st.sampled_from(["sailings", "fares", ""]),
        calls=st.integers(20, 10**7),
        refused=st.integers(0, 10),
        failed=st.integers(0, 10),
        prompt_tokens=st.integers(0, 10**6),
    ),
    max_size=12,
)


@given(_USES)
def test_lines_add_up_to_the_calls_to_the_last_one(uses: list[Use]) -> None:
    found = made(*uses)
    assert sum(one.calls for one in found.uses) == sum(one.calls for one in uses) == found.calls
    assert sum(cost.calls for cost in found.costs) == sum(one.charged for one in uses if one.plan)
    body = found.as_data()
    rows = rows_of(body)
    assert all(len(row) == len(COLUMNS) for row in rows)
    assert sum(row[4] for row in rows if row[0] == "use") == found.calls
    amounts = sum((Decimal(row[8]) for row in rows if row[0] == "price"), Decimal(0))
    assert amounts == sum(found.totals.values(), Decimal(0))


@pytest.mark.parametrize(("month", "days"), [("2026-11", 30), ("2026-12", 31), ("2026-02", 28), ("2028-02", 29)])
def test_a_month_is_the_calendars(month: str, days: int) -> None:
    first, last = month_of(month)
    assert ((last - first).days, f"{first:%Y-%m-%d %H:%M}") == (days, f"{month}-01 00:00")


def test_what_is_no_month_says_what_is() -> None:
    with pytest.raises(ValueError, match="write it like 2026-11"):
        month_of("November")
