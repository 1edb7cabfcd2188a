"""Limits of tokens among all limits: told in their unit, held against none of calls, and void where nothing counts."""

from typing import Any

from core.language_models.chats import NOW, Chats, asking, told
from helpers import configuration
from tamarack.core.configuration.layers import LimitRow, all_limits


def rows(*policies: dict[str, Any]) -> dict[str, LimitRow]:
    plan = {"name": "skiff", "title": "Skiff", "limits": ["1 per minute"], "token_budget": 9000}
    made = configuration(
        version={"policies": list(policies)},
        products=[{"name": "passage", "title": "Passage", "apis": ["sailings"], "plans": [plan]}],
    )
    return {row.id: row for row in all_limits(made, "production")}


def test_limits_of_tokens_are_told_in_tokens_and_not_held_against_those_of_calls() -> None:
    found = rows({"kind": "token-limit", "windows": ["60000 per minute"], "by": "caller", "budget": 10**6})
    row = found["sailings/2/token-limit"]
    assert row.brief == "60 k tokens / min, 1 M tokens / month" and row.notes == []
    assert found["@tokens/passage/skiff"].brief == "9000 tokens / month"
    assert found["@tokens/passage/skiff"].notes == [] and found["@plan/passage/skiff"].brief == ""


def test_a_budget_of_a_plan_whose_apis_count_no_tokens_is_said_to_hold_nowhere() -> None:
    (note,) = rows({"kind": "open"})["@tokens/passage/skiff"].notes
    assert note == "holds for no operation: none of its APIs counts tokens; place a Token count there"


def test_what_is_counted_now_is_told_in_tokens() -> None:
    chats = Chats({"kind": "token-limit", "windows": ["100 per minute"], "by": "everyone"})
    chats.ask(asking("1", max_tokens=9), told(prompt=10, completion=20))
    (live,) = chats.bed.counters.live("token-limit", NOW, 10)
    assert (live.window, live.used, live.limit) == ("100 tokens per minute", 30, 100)
