"""Dimensions of a team's own: up to three properties of calls, recorded as `name: value`."""

from typing import Any

import pytest
from pydantic import ValidationError

from core.language_models.chats import Chats, asking, told
from tamarack.core.policies.permit.dimensions import Dimensions
from tamarack.core.told.recording import record_of
from tamarack.core.traffic.record import LONGEST_OWN, Record


def test_they_are_recorded_in_the_order_of_their_lines_and_in_one_line_each() -> None:
    chats = Chats(
        {"kind": "token-count"}, {"kind": "dimensions", "of": ["cost-centre: header X-Cost-Centre", "crew: claim crew"]}
    )
    chats.ask(asking(), told(), headers=[(b"x-cost-centre", b"4711\tquay" + b"x" * 200)])
    record = Record(*record_of(chats.call, "production", "n1"))
    assert (
        record.own_1.startswith("cost-centre: 4711") and "\t" not in record.own_1 and len(record.own_1) == LONGEST_OWN
    )
    assert (record.own_2, record.own_3) == ("", "")
    assert (record.model, record.prompt_tokens, record.cached_tokens) == ("quay-notices-1", 10, 0)


def test_a_models_name_that_nobody_offers_is_not_recorded_so_that_names_without_end_fill_nothing() -> None:
    def recorded(chats: Chats, **call: Any) -> str:
        chats.ask(asking(model="made-up"), told(), **call)
        return Record(*record_of(chats.call, "production", "n1")).model

    plain = Chats({"kind": "token-count"})
    assert recorded(plain) == "made-up"
    assert recorded(plain, status=404) == ""
    assert recorded(Chats({"kind": "models", "offered": ["notices"]})) == ""
    assert recorded(Chats({"kind": "models", "offered": ["made-up"]}), status=500) == "made-up"


@pytest.mark.parametrize(
    ("of", "words"),
    [
        (["a"], "is no dimension"),
        (["a: cookie b"], "is no dimension"),
        (["a: header host"], "has a meaning of its own"),
        (["a: header b", "a: header c"], "give each its own name"),
        (["a: header b", "b: header b", "c: header b", "d: header b"], "at most 3"),
    ],
)
def test_what_cannot_be_is_told(of: list[str], words: str) -> None:
    with pytest.raises(ValidationError, match=words):
        Dimensions.model_validate({"of": of})
