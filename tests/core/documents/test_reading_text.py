"""YAML and JSON from strangers: read as what they are, within bounds, with the line of every value."""

import json
import math
import re
from typing import Any

import pytest
import yaml
from hypothesis import given
from hypothesis import strategies as st

from tamarack.core.documents.bounds import DEEPEST, MOST_VALUES
from tamarack.core.documents.decoding import decode
from tamarack.core.documents.located import NotReadable, read
from tamarack.core.documents.yaml_text import to_yaml

texts = st.text(st.characters(exclude_categories=["Cs"], exclude_characters="\x00"), max_size=20)
awkward = st.sampled_from(
    ["01239", "12e5", "0x1F", "1_000", "yes", "~", "null", "<<", "=", "1:30", "2026-11-27", "", " ", "- a", "a: b",
     "#", "\u2028", "\x7f", "\ufeff", "a\n b\n", "\t", ".inf", "0o17", "*a", "&a", "!x", "%", "@", "`", "\x85", "\r\n"]
)  # fmt: skip
scalars = st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False, allow_infinity=False) | texts | awkward
values = st.recursive(
    scalars,
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(texts | awkward, inner, max_size=4),
    max_leaves=20,
)


@given(values)
def test_what_is_written_as_yaml_reads_back_equal_by_our_reader(value: Any) -> None:
    for fast in (False, True):
        assert read(to_yaml({"a": value}, fast=fast)).data == {"a": value}


@given(values)
def test_texts_stay_texts_for_readers_of_yaml_1_1_too(value: Any) -> None:
    read_back = yaml.load(to_yaml({"a": value}, fast=True), Loader=yaml.CSafeLoader)
    assert read_back == {"a": value}


@given(values)
def test_json_reads_as_json_has_it_and_every_value_has_its_line(value: Any) -> None:
    text = json.dumps({"first": 1, "a": value}, indent=1)
    located = read(text)
    assert located.data == {"first": 1, "a": value}
    assert located.line(("a",)) == 3
    assert located.doubled == []


def test_json_takes_what_yaml_does_not() -> None:
    long = "k" * 1_500
    text = json.dumps({"pair": "\U0001f600", long: "\x7f\u2028", "tab": "\t", "slash": "/"}).replace("/", "\\/")
    assert read(text).data == {"pair": "\U0001f600", long: "\x7f\u2028", "tab": "\t", "slash": "/"}
    half = read('{"a": [1, "x\\ud800y", "n\\u0000l"]}')
    assert half.data == {"a": [1, "x\ufffdy", "n\ufffdl"]}
    assert half.unkept == [("a", 1), ("a", 2)]


@pytest.mark.parametrize(
    ("text", "line", "words"),
    [
        ("[" * 50_000, 1, "deep"),
        ('{"a":' * 50_000, 1, "deep"),
        ("- " * 50_000, 1, "deep"),
        ("\n".join(" " * n + "a:" for n in range(300)), DEEPEST + 2, "deep"),
        ("[" + "1," * MOST_VALUES + "1]", 1, "values"),
        ("- 1\n" * (MOST_VALUES + 2), MOST_VALUES + 1, "values"),
        ("a: &a [" + "x," * 50_000 + "]\nb: [" + "*a," * 10 + "]", 2, "aliases"),
        ("a: &a '" + "x" * 900_000 + "'\nb: [" + "*a," * 10 + "]", 2, "aliases"),
        ("a: &a [*a]", 1, "*a refers to nothing"),
        ("a: 1\nb: " + "9" * 301, 2, "larger than any"),
        ('{"a": 1,\n"b": 1e400}', 2, "larger than any"),
        ('{"a": ' + "9" * 5_000 + "}", 1, "larger than any"),
        ("a: 1\n---\nb: 2", 2, "second document"),
        ("? [a]\n: 1", 1, "plain text"),
        ("a: x\x01", 1, "U+0001"),
        ("a:\n\tb: 1", 2, "a tab"),
        ("a: b: c", 1, "in quotes"),
        ('{"a": 1,\n "b" 2}', 2, "colon is missing"),
        ("<<: 7\na: 1", 1, "takes a mapping"),
        ("", 1, "empty"),
        ("# only words", 1, "empty"),
    ],
)
def test_what_is_too_much_or_no_document_is_told_with_its_line(text: str, line: int, words: str) -> None:
    with pytest.raises(NotReadable, match=re.escape(words)) as told:
        read(text)
    assert told.value.line == line


def test_a_whole_number_keeps_all_its_digits() -> None:
    number = 2**200
    assert read(f'{{"a": {number}}}').data == read(f"a: {number}").data == {"a": number}
    assert not math.isinf(read("a: 1e308").data["a"])


def test_merge_keys_take_over_what_a_mapping_does_not_say_itself() -> None:
    text = "base: &b {x: 1, y: 2}\nother: &o {y: 3, z: 4}\none: {<<: *b, y: 9}\nmany:\n  <<: [*b, *o]\nname: {'<<': 1}"
    data = read(text).data
    assert data["one"] == {"y": 9, "x": 1}
    assert data["many"] == {"x": 1, "y": 2, "z": 4}
    assert data["name"] == {"<<": 1}


def test_a_key_that_stands_twice_is_told_with_the_line_of_the_second() -> None:
    for text in ('{"a": {"b": 1,\n"b": 2}}', "a:\n  b: 1\n  b: 2"):
        located = read(text)
        assert located.data == {"a": {"b": 2}}
        assert [path for path, _ in located.doubled] == [("a", "b")]
        assert located.doubled[0][1] == text.count("\n") + 1


@pytest.mark.parametrize(
    ("content", "said"),
    [
        (b"\xef\xbb\xbfa: 1\r\n", "a: 1\n"),
        ("a: ü".encode("utf-16"), "a: ü"),
        (b"\xfe\xff" + "a: ü".encode("utf-16-be"), "a: ü"),
        ("a: ü".encode("latin-1"), NotReadable),
        ("a: ü".encode("utf-16-le"), NotReadable),
        (b"\xff\xfea", NotReadable),
    ],
)
def test_bytes_are_text_or_words_say_what_they_look_like(content: bytes, said: Any) -> None:
    if isinstance(said, str):
        assert decode(content) == said
    else:
        with pytest.raises(said, match="save it as UTF-8"):
            decode(content)
