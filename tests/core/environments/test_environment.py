"""Environments: what one may be called, where it may be reached, and what their order says."""

from typing import Any

import pytest
from pydantic import ValidationError

from tamarack.core.environments.environment import Environment, Environments
from tamarack.core.types import problems_of

TRACK = Environments(tuple(Environment(name=name) for name in ("test", "staging", "production")))


def problem(**said: Any) -> str:
    with pytest.raises(ValidationError) as caught:
        Environment.model_validate({"name": "staging"} | said)
    return problems_of(caught.value)[0].message


@pytest.mark.parametrize("name", ["", "Staging", "1st", "a" * 31, "a b", "staging/eu", "stagingé"])
def test_a_name_is_lower_case_letters_digits_and_hyphens(name: str) -> None:
    assert problem(name=name)


@pytest.mark.parametrize("name", ["all", "draft", "weight", "secret"])
def test_words_that_mean_something_else_name_no_environment(name: str) -> None:
    assert "means something else" in problem(name=name)


@pytest.mark.parametrize(
    ("address", "words"),
    [("staging.skerry.example", "is no address"), ("ftp://a.example", "is no address"), ("http://", "is no address"),
     ("http://a.example:99999", "is no address"), ("http://[::1", "is no address"), ("http://a.example/a b", "no address"),
     ("http://u:p@a.example", "no user"), ("http://a.example/?x=1", "no user, query"), ("http://a.example/#x", "fragment"),
     ("http://a.example/\r\nx: y", "no address"), ("http://" + "a" * 300, "at most 300")],
)  # fmt: skip
def test_an_address_that_cannot_be_one_is_told(address: str, words: str) -> None:
    assert words in problem(address=address)


def test_an_address_is_kept_without_a_slash_at_its_end() -> None:
    assert Environment(name="staging", address=" https://a.example/base/ ").address == "https://a.example/base"
    assert Environment(name="staging", address="  ").address == ""


def test_a_mark_is_one_of_the_shapes_and_a_summary_one_line() -> None:
    assert problem(mark="red")
    assert "one line" in problem(summary="a\nb")


def test_the_order_says_where_a_change_goes_first_and_which_one_is_live() -> None:
    assert (TRACK.first, TRACK.live, TRACK.said) == ("test", "production", "test, staging and production")
    assert [TRACK.before(name) for name in TRACK] == ["", "test", "staging"]
    assert "staging" in TRACK
    assert "stagin" not in TRACK
    assert TRACK.named("nowhere") is None
    assert TRACK.on_portal == ("production",), "developers see the live one, and others where that is said"
