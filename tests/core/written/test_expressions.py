"""Expressions are checked and typed when they are saved, bounded on a call's way, and never show a secret."""

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tamarack.core.written.expressions import (
    VARIABLES,
    ExpressionFailed,
    Language,
    NotAnExpression,
    handle_of,
    language,
)
from tamarack.core.written.json_path import MOST_VALUES, TooMany, compile_path, values_at

KNOWN = dict(VARIABLES["request"]) | {"params.most": "whole number", "params.share": "number", "params.key": "text",
                                     "vars.x": "any"}  # fmt: skip
LANGUAGE: Language = language(tuple(KNOWN.items()))
VALUES: dict[str, Any] = {"query": {"port": "HBR"}, "header": {"x-a": "1"}, "path": {}, "claims": {}, "vars.x": None,
                          "body": {"cars": [{"length": 7.5}]}, "params.most": 6, "params.share": 0.5, "params.key": "",
                          "call.method": "GET"}  # fmt: skip


def value(text: str, **changes: Any) -> Any:
    return LANGUAGE.compile(text).value(LANGUAGE.values(VALUES | changes))


@pytest.mark.parametrize(
    ("text", "found"),
    [
        ('query.port == "HBR" && call.method == "GET"', True),
        ("body.cars[0].length > 6.0", True),
        ("double(body.cars[0].length) > params.share", True),
        ("size(body.cars) <= params.most", True),
        ('"x-a" in header ? header["x-a"] : ""', "1"),
        ("body.cars.exists(car, car.length > 7)", True),
        ("vars.x == null", True),
        ('timestamp("2026-11-28T00:00:00Z")', "2026-11-28T00:00:00Z"),
        ('duration("90s")', 90.0),
        ("[1, 2.5, true]", [1, 2.5, True]),
    ],
)
def test_values_come_as_json_knows_them(text: str, found: Any) -> None:
    assert value(text) == found


@pytest.mark.parametrize(
    ("text", "words", "column"),
    [
        ("nope == 1", "‘nope’ is not known here", 1),
        ("query.port == 1", "‘==’ does not go with string and int", 12),
        ("params.share > 3", "write whole numbers as 3.0", 14),
        ("query.port ==", "it ends too early", 14),
        ("query.port", "is not true or false but text", 0),
        ("params.nope > 3", "‘params.nope’ is not known", 7),
        ("x" * 1_001, "at most 1,000 fit", 0),
        ("(" * 40 + "true" + ")" * 40, "nested too deeply", 0),
        ("body.cars.map(c, c.length)", "‘map’ makes lists", 11),
        ("body.cars . filter (c, true) == []", "‘filter’ makes lists", 13),
        ("body.a.all(x, x.b.all(y, y))", "‘all’ stands within ‘all’", 19),
        ("body.a.exists(x, x in body.a)", "‘body’ stands within ‘exists’", 23),
        ("body.a.all(x, query == query)", "‘query’ stands within ‘all’", 15),
        ("body.a.all(x, vars.x == x)", "‘vars’ stands within ‘all’", 15),
        (" && ".join(["body == body"] * 5), "more than 8 times", 0),
    ],
)
def test_what_cannot_be_used_is_refused_with_its_place(text: str, words: str, column: int) -> None:
    with pytest.raises(NotAnExpression) as refused:
        LANGUAGE.compile(text, condition=True)
    assert words in refused.value.words
    assert refused.value.column == column


def test_names_in_texts_and_remarks_are_no_names() -> None:
    assert value('"body.map(x, body)" == query.port // body.filter(x, body)') is False


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("query.nope == ''", "there is no ‘nope’"),
        ("body.cars.length", "a list or a plain value is asked for a name"),
        ("1 / (params.most - 6)", "divide"),
        ("body.big.all(x, x == 1)", "was cut off: Iteration budget exceeded"),
        ('"a".matches("(")', "regular expression"),
    ],
)
def test_one_that_has_no_value_for_a_call_fails_with_words_for_staff(text: str, words: str) -> None:
    with pytest.raises(ExpressionFailed) as failed:
        value(text, body={"cars": [], "big": [1] * 20_000})
    assert words in str(failed.value)


def test_a_condition_that_is_neither_true_nor_false_fails() -> None:
    with pytest.raises(ExpressionFailed):
        LANGUAGE.compile("body.cars", condition=True).holds(LANGUAGE.values(VALUES))


def test_a_value_that_the_language_does_not_hold_fails_and_nothing_else() -> None:
    with pytest.raises(ExpressionFailed):
        value("body.n == 1", body={"n": 2**70})


def test_a_secret_is_asked_for_and_never_seen() -> None:
    asked = 'is_secret(params.key, header["x-a"])'
    assert value(asked, **{"params.key": handle_of("1")}) is True
    assert value(asked, **{"params.key": f"{handle_of('0')} {handle_of(b'1')}"}) is True
    assert value(asked, **{"params.key": handle_of("2")}) is False
    assert value(asked, **{"params.key": ""}) is False  # not set: nobody has it
    assert "1" not in handle_of("1") or len(handle_of("1")) == 48


@given(st.text(max_size=80))
def test_any_text_is_an_expression_or_refused_in_one_line(text: str) -> None:
    try:
        LANGUAGE.compile(text)
    except NotAnExpression as refused:
        assert refused.words and "\n" not in refused.words


@given(st.text(st.sampled_from("body.mapfilterexistsall(),x =&|!\"'/[]{}:?0123456789"), max_size=60))
def test_whatever_is_accepted_holds_no_loop_that_makes_lists(text: str) -> None:
    try:
        LANGUAGE.compile(text)
    except NotAnExpression:
        return
    plain = text.replace(" ", "")
    assert ".map(" not in plain.split("//")[0] or '"' in text or "'" in text


DOCUMENT = {"cars": [{"id": "a", "length": 4.2}, {"id": "b", "length": 7.5}], "from": {"port": "HBR"}}


@pytest.mark.parametrize(
    ("path", "found"),
    [
        ("$.cars[*].id", ["a", "b"]),
        ("$.cars[?@.length > 6].id", ["b"]),
        ("$..port", ["HBR"]),
        ("$.cars[-1:].id", ["b"]),
        ("$.nowhere", []),
        ("$.cars[?match(@.id, '(a|b)+')].id", ["a", "b"]),
        ("$.cars[?search(@.id, '(')].id", []),
    ],
)
def test_json_paths_lead_to_values(path: str, found: list[Any]) -> None:
    assert values_at(path, DOCUMENT) == found


@pytest.mark.parametrize(
    ("path", "words"),
    [
        ("cars", "is no JSONPath"),
        ("$.cars[", "is no JSONPath"),
        ("$..a..b", "more than once"),
        ("$.a[?@.b[?@.c]]", "more than once"),
        ("$.a[?@.b == $.c]", "begins anew"),
        ("$." + "a" * 200, "at most 200"),
    ],
)
def test_paths_that_could_take_long_are_refused(path: str, words: str) -> None:
    with pytest.raises(ValueError, match=words):
        compile_path(path)


def test_a_path_is_looked_up_in_a_bounded_document() -> None:
    with pytest.raises(TooMany):
        values_at("$[*]", [1] * (MOST_VALUES + 1))
