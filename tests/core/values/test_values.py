"""Conditions on a call, and texts that its values are put into."""

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tamarack.core.carrying.call import Call, Published
from tamarack.core.limits.told import standard
from tamarack.core.values.conditions import LONGEST_PATTERN, parse
from tamarack.core.values.template import Template, TemplateFailed, check_template_text, into


def call(body: bytes | None = b'{"from": {"port": "HBR"}, "cars": [4, 7.5], "full": true, "none": null}') -> Call:
    made = Call(b"c1", 1_790_000_000.0, 0, "192.0.2.1")
    made.method, made.path, made.query = (
        "POST",
        b"/freight/v2/bookings/KC%2D7",
        b"port=HBR&port=STR&n=12&note=a%22b%3Ci%3E",
    )
    made.headers = [(b"x-ship", b"lark"), (b"x-ship", b"wren")]
    made.body = body
    made.operation = Published(
        "freight", "2", "get /bookings/{id}", "", "/freight/v2", 10, frozenset(), standard, {"id": 3}
    )
    return made


@pytest.mark.parametrize(
    ("text", "holds"),
    [
        ("query port equals HBR", True), ("query port equals STR", False), ("query PORT is present", False),
        ("query port is one of STR, HBR", True), ("query n is more than 11.5", True), ("query n is less than 12", False),
        ("query n is at most 12", True), ("query port is at least 1", False), ("query day is absent", True),
        ("header X-Ship equals lark", True), ("header x-none is present", False), ("path id equals KC-7", True),
        ("path id matches ^KC-[0-9]$", True), ("path other is present", False), ("body /from/port equals HBR", True),
        ("body /cars/1 is at least 7.5", True), ("body /full equals true", True), ("body /none equals null", True),
        ("body /from equals HBR", False), ("body /cars is present", True), ("body /to is absent", True),
    ],
)  # fmt: skip
def test_a_condition_holds_as_it_reads(text: str, holds: bool) -> None:
    condition = parse(text)
    assert condition.holds(call()) is holds
    assert parse(str(condition)) == condition
    assert parse(str(condition)).holds(call()) is holds


def test_a_body_that_is_no_json_has_no_values() -> None:
    for body in (None, b"{", b""):
        assert parse("body /from is absent").holds(call(body))
        assert not parse("body /from matches .*").holds(call(body))


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("port equals HBR", "is not a condition; write it like"),
        ("query port like HBR", "is not a condition"),
        ("body port equals HBR", "is not a JSON Pointer"),
        ("query port is one of a,,b", "an empty value"),
        ("query n is more than many", "is not a number"),
        ("path id matches (?=x)", "no look-around"),
        ("path id matches [", "is not a pattern"),
        (f"path id matches {'a' * (LONGEST_PATTERN + 1)}", "at most"),
    ],
)
def test_what_is_no_condition_is_told_with_the_mend(text: str, words: str) -> None:
    with pytest.raises(ValueError, match=words):
        parse(text)


def test_a_pattern_takes_time_that_grows_with_the_text_alone() -> None:
    condition = parse("query x matches ^(a+)+$")
    made = call()
    made.query = b"x=" + b"a" * 50_000 + b"b"
    assert not condition.holds(made)  # a backtracking matcher would take longer than the universe lasts


@pytest.mark.parametrize(
    ("text", "kind", "made"),
    [
        ("plain", "text", "plain"),
        ("{{ path.id }} {{ query.n }} {{ header['x-ship'] }} {{ body.from.port }}", "text", "KC-7 12 lark HBR"),
        ("{{ query.none }}|{{ claims.sub }}|{{ caller.application }}", "text", "||"),
        ('{"note": "{{ query.note }}", "cars": {{ body.cars }}}', "json", '{"note": "a\\"b<i>", "cars": [4,7.5]}'),
        ("<p>{{ query.note }}</p>", "markup", "<p>a&quot;b&lt;i&gt;</p>"),
        ("{{ call.id }} {{ call.time }}", "text", "c1 2026-09-21T14:13:20Z"),
        ("{% if query.n == '12' %}twelve{% endif %}", "text", "twelve"),
    ],
)
def test_values_of_the_call_are_put_in_and_stay_values(text: str, kind: Any, made: str) -> None:
    check_template_text(text)
    assert Template(text, kind).made_for(call()).decode() == made


def test_what_a_text_is_follows_from_its_media_type() -> None:
    assert [into(one) for one in ("application/problem+json", "text/HTML; charset=utf-8", "image/svg+xml", "text/csv")] == [
        "json", "markup", "markup", "text",
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("{{ qurey.port }}", "'qurey' is not known of a call; take from path"),
        ("{{ query.port", "line 1"),
        ("a\n{% for x %}", "line 2"),
    ],
)
def test_a_text_that_cannot_be_used_is_told_with_its_line(text: str, words: str) -> None:
    with pytest.raises(ValueError, match=words):
        check_template_text(text)


@pytest.mark.parametrize(
    "text",
    [
        "{% for a in range(9999) %}{% for b in range(9999) %}x{% endfor %}{% endfor %}",
        "{{ 'x' * 90000000 }}",
        "{% set x = 'ab' %}{% for i in range(40) %}{% set x = x ~ x %}{% endfor %}{{ body.missing.deeper }}",
        "{% include 'other' %}",
        "{{ body.cars.__class__.__mro__ }}{{ body.missing.deeper }}",
    ],
)
def test_no_text_runs_without_end_or_reaches_what_it_is_not_given(text: str) -> None:
    with pytest.raises(TemplateFailed):
        Template(text).made_for(call())


@given(st.text(max_size=200))
def test_any_text_is_taken_or_told_why_not(text: str) -> None:
    try:
        check_template_text(text)
    except ValueError as error:
        assert str(error)
