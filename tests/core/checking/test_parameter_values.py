"""Parameters are read from a call as they are written by style (OpenAPI 3.1, 4.8.12.1)."""

from typing import Any
from urllib.parse import quote

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tamarack.core.checking.described import DescribedParameter
from tamarack.core.checking.parameter_values import ABSENT, in_pairs, in_text, pairs_of
from tamarack.core.openapi import parameter_styles

TEXTS = st.text(st.characters(exclude_categories=("Cs",), exclude_characters=",|&=;. "), min_size=1, max_size=8)
LISTS = st.lists(st.integers(-1000, 1000), min_size=1, max_size=5)
OBJECTS = st.dictionaries(st.sampled_from(["ship", "port", "day"]), st.integers(0, 99), min_size=1)
INNER = tuple((name, ("integer",)) for name in ("ship", "port", "day"))


def parameter(kind: str, style: str, explode: bool, place: Any = "query") -> DescribedParameter:
    return DescribedParameter(
        name="p", place=place, style=style, explode=explode, kinds=(kind,), items=("integer",), inner=INNER
    )  # type: ignore[arg-type]


def query(pairs: list[tuple[str, str]]) -> bytes:
    return "&".join(f"{quote(name, safe='[]')}={quote(text, safe='')}" for name, text in pairs).encode()


@given(value=LISTS, style=st.sampled_from(["form", "spaceDelimited", "pipeDelimited"]), explode=st.booleans())
def test_a_list_in_a_query_comes_back_as_it_was(value: list[int], style: str, explode: bool) -> None:
    one = parameter("array", style, explode)
    sent = query([("other", "1"), *parameter_styles.pairs_of("p", value, style, explode)])
    assert in_pairs(one, pairs_of(sent)) == value


@given(value=OBJECTS, style=st.sampled_from(["form", "deepObject"]), explode=st.booleans())
def test_an_object_in_a_query_comes_back_as_it_was(value: dict[str, int], style: str, explode: bool) -> None:
    sent = query([("other", "1"), *parameter_styles.pairs_of("p", value, style, explode)])
    assert in_pairs(parameter("object", style, explode), pairs_of(sent)) == value


@given(
    value=st.one_of(LISTS.map(lambda one: ("array", one)), OBJECTS.map(lambda one: ("object", one))),
    style=st.sampled_from(["simple", "label", "matrix"]),
    explode=st.booleans(),
)
def test_a_value_in_a_path_comes_back_as_it_was(value: tuple[str, Any], style: str, explode: bool) -> None:
    kind, held = value
    text = parameter_styles.in_path("p", held, style, explode)
    if kind == "object" and style == "label" and explode:
        return  # `.R=100.G=200`: by dots, read below
    assert in_text(parameter(kind, style, explode, "path"), text) == held


@given(text=TEXTS)
def test_text_stays_the_text_that_it_is(text: str) -> None:
    assert in_pairs(parameter("text", "form", True), pairs_of(query([("p", text)]))) == text


@pytest.mark.parametrize(
    ("kinds", "text", "value"),
    [
        (("integer",), "12", 12),
        (("integer",), "1.0", "1.0"),
        (("integer",), "twelve", "twelve"),
        (("integer",), "٣", "٣"),
        (("number",), "1.50", 1.5),
        (("number",), "1e400", "1e400"),
        (("boolean",), "true", True),
        (("boolean",), "yes", "yes"),
        (("null", "integer"), "", None),
        (("any",), "12", "12"),
    ],
)
def test_a_text_is_read_as_what_it_may_be_and_else_left_for_the_schema_to_refuse(
    kinds: Any, text: str, value: Any
) -> None:
    one = DescribedParameter(name="p", place="query", kinds=kinds)
    found = in_pairs(one, [("p", text)])
    assert found == value and type(found) is type(value)


def test_what_is_not_there_is_absent_and_what_stands_twice_is_no_single_value() -> None:
    one = DescribedParameter(name="p", place="query", kinds=("integer",))
    assert in_pairs(one, [("q", "1")]) is ABSENT
    assert in_pairs(one, [("p", "1"), ("p", "2")]) == [1, 2]


def test_a_query_is_read_within_a_bound() -> None:
    assert len(pairs_of(b"&".join([b"a=1"] * 100_000))) <= 1_000
