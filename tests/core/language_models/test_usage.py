"""What a stream took, and taking that off it: whatever passes, and however it was cut on its way."""

import itertools
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from core.language_models.chats import SSE, Chats, asking, event, piece
from tamarack.core.language_models.estimating import MOST_MODELS, Learned, estimated, estimated_prompt
from tamarack.core.language_models.event_cutter import LARGEST_EVENT
from tamarack.core.language_models.without_usage import WithoutUsage

USAGE = {"prompt_tokens": 7, "completion_tokens": 3}


def cut(text: bytes, places: list[int]) -> list[bytes]:
    """A text in pieces."""
    bounds = sorted({0, len(text), *(place % (len(text) + 1) for place in places)})
    return [text[start:end] for start, end in itertools.pairwise(bounds)]


def filtered(pieces: list[bytes]) -> bytes:
    off = WithoutUsage()
    return b"".join(map(off.piece, pieces)) + off.end()


_EVENTS = st.lists(
    st.sampled_from(
        [piece("Dear "), piece("all", usage=None), event(choices=[], usage=USAGE), event(choices=[], usage=None),
         b": beat\n\n", b"data: [DONE]\n\n", b'event: told\nid: 4\ndata: {"usage": 1,\ndata: "choices": []}\n\n',
         b'data: {"usage"\n\n', b"\n", b"data: torn", b"data: a\r\ndata: b"]
    ),
    max_size=12,
)  # fmt: skip


@given(
    events=_EVENTS, ends=st.sampled_from([b"\n", b"\r\n", b"\r"]), places=st.lists(st.integers(0, 10**6), max_size=12)
)
def test_what_passes_does_not_depend_on_how_it_was_cut(events: list[bytes], ends: bytes, places: list[int]) -> None:
    stream = b"".join(events).replace(b"\r\n", b"\n").replace(b"\n", ends)
    assert filtered(cut(stream, places)) == filtered([stream])


@given(events=_EVENTS)
def test_events_without_usage_pass_as_they_came_and_as_soon_as_they_are_whole(events: list[bytes]) -> None:
    plain = [one for one in events if b"usage" not in one and one.endswith(b"\n\n")]
    off = WithoutUsage()
    assert [off.piece(one) for one in plain] == plain


def test_an_event_that_tells_more_than_usage_only_loses_that() -> None:
    both = b"id: 7\n" + event(choices=[{"delta": {"content": "x"}}], usage=USAGE, model="m")
    passed = filtered([both])
    assert passed == b'id: 7\ndata: {"choices":[{"delta":{"content":"x"}}],"model":"m"}\n\n'


def test_an_event_without_end_is_not_held_for_ever() -> None:
    off = WithoutUsage()
    passed = 0
    for _ in range(40):
        passed += len(off.piece(b"x" * 100_000))
    assert passed > 4_000_000 - LARGEST_EVENT - 100_000
    assert off.piece(b'\n\ndata: {"usage": {}, "choices": []}\n\n').endswith(b"\n\n")


@given(places=st.lists(st.integers(0, 10**6), max_size=20), tells=st.booleans(), text=st.text(max_size=30))
def test_what_a_stream_took_does_not_depend_on_how_it_was_cut(places: list[int], tells: bool, text: str) -> None:
    stream = piece(text) + piece(text) + (event(choices=[], usage=USAGE) if tells else b"") + b"data: [DONE]\n\n"
    seen = []
    for pieces in (cut(stream, places), [stream]):
        chats = Chats({"kind": "token-count"})
        chats.ask(asking(stream=True), *pieces, b"", b"", fields=[SSE])
        seen.append((chats.used(), chats.driver.sent))
    assert seen[0] == seen[1]
    if tells:
        assert seen[0][0] == (7, 3)


def test_how_long_the_first_piece_took_and_which_model_answered_are_known() -> None:
    chats = Chats({"kind": "token-count"})
    usage = USAGE | {"prompt_tokens_details": {"cached_tokens": 5}}
    chats.ask(asking(stream=True), event(model="small-2", choices=[]), event(choices=[], usage=usage), fields=[SSE])
    prompt = chats.call.prompt
    assert (prompt.model, prompt.served, prompt.cached_tokens) == ("quay-notices-1", "small-2", 5)
    assert prompt.first_us >= 1


@pytest.mark.parametrize(
    ("text", "tokens"), [("", 0), ("Dear passengers", 15 / 4), ("埠頭", 2.1), ("fœhn", 4 / 4 + 0.4)]
)
def test_the_rule_counts_characters_and_the_bytes_they_take(text: str, tokens: float) -> None:
    assert estimated(text) == pytest.approx(tokens)


def test_a_picture_counts_as_one_and_not_by_its_letters() -> None:
    picture = {"type": "image_url", "image_url": {"url": "data:image/png;base64," + "A" * 400_000}}
    assert estimated_prompt([[{"role": "user", "content": [picture]}]]) < 900


def test_what_is_nested_without_end_is_counted_in_bounded_time() -> None:
    nested: Any = "x"
    for _ in range(900):
        nested = [nested]
    assert estimated_prompt([nested]) < 10


@given(
    answers=st.lists(
        st.tuples(st.floats(0, 10**6), st.integers(0, 10**6), st.integers(0, 10**6)), min_size=1, max_size=50
    )
)
def test_what_is_learned_stays_within_what_was_seen(answers: list[tuple[float, int, int]]) -> None:
    learned = Learned()
    for by_rule, prompt, completion in answers:
        learned.note(("m",), by_rule, prompt, completion)
    facts = learned.of(("m",))
    assert 1 / 4 <= facts.ratio <= 4
    lengths = [completion for _, _, completion in answers]
    assert len(answers) < 5 or min(lengths) <= facts.completion <= max(lengths)


def test_models_are_remembered_up_to_a_bound() -> None:
    learned = Learned()
    for place in range(MOST_MODELS + 20):
        for _ in range(5):
            learned.note((str(place),), 1, 1, 9)
    assert learned.of(("0",)).completion != 9 and learned.of((str(MOST_MODELS + 19),)).completion == 9
