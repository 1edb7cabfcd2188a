"""Numbers in answers: what is found depends on the bytes alone, never on how they were cut."""

import json
from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tamarack.core.http import answer_values
from tamarack.core.http.answer_values import documents_of

EVENTS = [(b"content-type", b"text/event-stream; charset=utf-8")]
JSON = [(b"content-type", b"application/json")]
LINE_ENDS = st.sampled_from([b"\n", b"\r\n", b"\r"])


def found(headers: list[tuple[bytes, bytes]], body: bytes, cuts: list[int], complete: bool = True) -> list[object]:
    seen: list[object] = []
    watching = documents_of(headers, seen.append)
    edges = sorted({0, len(body), *(cut % (len(body) + 1) for cut in cuts)})
    for start, end in pairwise(edges):
        watching.piece(body[start:end])
    watching.end(complete)
    return seen


@given(
    events=st.lists(st.sampled_from([b'data: {"usage": {"n": 1}}', b"data:[1]", b": hush", b"event: x", b"data: no json",
                                     b'data: {"a":~data: 2}', b"", b"id: 7"]), max_size=8),
    end=LINE_ENDS, cuts=st.lists(st.integers(0, 400), max_size=8),
)  # fmt: skip
def test_events_are_read_alike_however_they_are_cut(events: list[bytes], end: bytes, cuts: list[int]) -> None:
    body = b"".join(event.replace(b"~", end) + end * 2 for event in events)
    whole = found(EVENTS, body, [])
    assert found(EVENTS, body, cuts) == whole
    assert found(EVENTS, body, list(range(len(body)))) == whole
    assert whole.count({"usage": {"n": 1}}) == events.count(b'data: {"usage": {"n": 1}}')
    assert whole.count({"a": 2}) == events.count(b'data: {"a":~data: 2}')


@given(
    value=st.dictionaries(st.text(max_size=4), st.integers(-(2**53), 2**53), max_size=4),
    cuts=st.lists(st.integers(0, 200), max_size=5),
)
def test_a_document_is_read_when_it_is_whole_and_not_when_it_was_cut_off(
    value: dict[str, int], cuts: list[int]
) -> None:
    body = json.dumps(value).encode()
    assert found(JSON, body, cuts) == [value]
    assert found(JSON, body, cuts, complete=False) == []


def test_an_event_that_is_cut_off_is_not_read() -> None:
    assert found(EVENTS, b'data: {"a": 1}\n\ndata: {"a": 2}\n', []) == [{"a": 1}]


@pytest.mark.parametrize("cut", [1, 7, 10_000])
def test_what_is_too_long_is_passed_over_and_costs_nothing_behind_it(monkeypatch: pytest.MonkeyPatch, cut: int) -> None:
    monkeypatch.setattr(answer_values, "LARGEST_READ", 50)
    long = b'data: "' + b"x" * 60 + b'"\n\n'
    cuts = list(range(0, 200, cut))
    assert found(EVENTS, b": " + b"y" * 60 + b"\ndata: 1\n\n" + long + b"data: 2\n\n", cuts) == [1, 2]
    assert found(EVENTS, b"data: 1\n" * 9 + b"\n" + b"data: 2\n\n", cuts) == [2]  # each line is short, the event is not
    assert found(JSON, b'"' + b"x" * 60 + b'"', cuts) == []
