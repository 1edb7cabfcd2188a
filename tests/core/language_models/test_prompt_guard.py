"""Guarding prompts and answers: bounds, words refused, masked or ending an answer, over the borders of pieces too."""

import itertools
from typing import Any

import orjson
import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from core.language_models.chats import SSE, Chats, asking, event, piece, told
from tamarack.core.carrying.refusals import Refusal
from tamarack.core.language_models.guarded_answer import ENDED, GuardedAnswer, GuardedStream
from tamarack.core.language_models.shape import CHAT
from tamarack.core.language_models.word_rules import MASK, Rules, WordRule
from tamarack.core.policies.permit.prompt_guard import PromptGuard


def guarded(*rules: str, **more: Any) -> Chats:
    return Chats({"kind": "prompt-guard", "rules": list(rules)} | more)


def refused(chats: Chats, **body: Any) -> str:
    """What a call is told that is refused; empty where it passes."""
    outcome = chats.ask(asking(**body), told())
    if not isinstance(outcome, Refusal):
        return ""
    assert (outcome.reason.code, outcome.policy) == ("prompt-refused", "prompt-guard")
    return outcome.detail


def rules_of(*lines: str) -> Rules:
    return Rules([WordRule.model_validate(line) for line in lines])


def test_prompts_and_parameters_keep_their_bounds_and_every_one_that_is_not_kept_is_named() -> None:
    chats = guarded(longest=30, bounds=["max_tokens: up to 50", "temperature: 0 to 1", "tools: none"])
    assert refused(chats) == ""
    assert refused(chats, max_tokens=50, temperature=0.2, tools=[]) == ""
    assert "about 10" in refused(chats, text="x" * 400) and "may have 30" in refused(chats, text="x" * 400)
    said = refused(chats, max_tokens=51, temperature="hot", tools=[{"type": "function"}])
    assert "'max_tokens' is 51, and may be up to 50" in said
    assert "'temperature' is no number, and may be 0 to 1" in said and "'tools' may not be asked for" in said


def test_words_in_prompts_are_refused_by_the_number_of_their_rule_or_masked() -> None:
    chats = guarded("mask in prompts: #### ####", "refuse in prompts: launch code", "mask in prompts: skipper *")
    said = refused(chats, text="What is the LAUNCH  code?")
    assert "by rule 2 of 'prompt-guard'" in said and "launch" not in said.lower()
    assert refused(chats, text="Card 1234 5678, says Skipper Holm; launchcode") == ""
    assert chats.sent[-1][1]["messages"][0]["content"] == f"Card {MASK}, says {MASK}; launchcode"
    parts = [{"type": "text", "text": "1234 5678"}, {"type": "image_url", "image_url": {"url": "data:x,1234 5678"}}]
    chats.ask(orjson.dumps({"messages": [{"role": "user", "content": parts}]}), told())
    content = chats.sent[-1][1]["messages"][0]["content"]
    assert (content[0]["text"], content[1]["image_url"]["url"]) == (MASK, "data:x,1234 5678")


@pytest.mark.parametrize("body", [b"{", b"[]", b"7"])
def test_what_cannot_be_looked_at_does_not_pass(body: bytes) -> None:
    outcome = guarded("refuse in prompts: launch code").ask(body)
    assert isinstance(outcome, Refusal) and "no JSON object" in outcome.detail


def test_a_whole_answer_is_masked_or_ended() -> None:
    chats = guarded("mask in answers: skipper *", "end in answers: internal only")
    chats.ask(asking(), told(text="Ask Skipper Holm. Internal only: the code."))
    choice = orjson.loads(chats.driver.sent)["choices"][0]
    assert (choice["message"]["content"], choice["finish_reason"]) == (f"Ask {MASK}. ", ENDED)
    assert chats.call.note == "prompt-guard ended the answer by rule 2"
    assert chats.used() == (10, 20)  # counted as the model told it
    chats.ask(asking(), told(text="Nothing of note"))
    assert chats.driver.sent == told(text="Nothing of note")


WORDS = ["Ask ", "Skip", "per", " Holm", ". ", "inter", "nal on", "ly", "unskipper x", " ", "calm", "12", "34 5", "678"]
RULES = ("mask in answers: skipper *", "end in answers: internal only", "mask in answers: #### ####")


def streamed(pieces: list[str]) -> tuple[str, str]:
    """The text that a caller puts together from a stream, and why it ended."""
    filtered = GuardedStream(rules_of(*RULES), CHAT.said, lambda rule: None)
    stream = [*map(piece, pieces), event(choices=[{"index": 0, "delta": {}, "finish_reason": "stop"}])]
    passed = b"".join(map(filtered.piece, [*stream, b"data: [DONE]\n\n"])) + filtered.end()
    events = [one.removeprefix(b"data: ") for one in passed.split(b"\n\n") if one]
    assert events[-1] == b"[DONE]"
    choices = [orjson.loads(one)["choices"][0] for one in events[:-1]]
    return "".join(one["delta"].get("content", "") for one in choices), choices[-1]["finish_reason"]


@given(pieces=st.lists(st.sampled_from(WORDS), min_size=1, max_size=14), cuts=st.lists(st.integers(0, 200), max_size=8))
def test_a_stream_passes_as_the_whole_answer_would_however_its_text_was_cut(pieces: list[str], cuts: list[int]) -> None:
    text = "".join(pieces)
    whole = GuardedAnswer(rules_of(*RULES), CHAT.said, lambda rule: None)
    whole.piece(told(text=text))
    choice = orjson.loads(whole.end())["choices"][0]
    bounds = sorted({0, len(text), *(cut % (len(text) + 1) for cut in cuts)})
    again = [text[start:end] for start, end in itertools.pairwise(bounds)]
    assert streamed(pieces) == streamed(again) == (choice["message"]["content"], choice["finish_reason"])


def test_every_event_passes_at_once_and_only_what_may_be_a_beginning_waits() -> None:
    filtered = GuardedStream(rules_of("mask in answers: skipper"), CHAT.said, lambda rule: None)
    said = []
    for text in ("Ask the ", "ship", " or the sk", "ipper", " now"):
        (passed,) = [one for one in filtered.piece(piece(text)).split(b"\n\n") if one]
        said.append(orjson.loads(passed.removeprefix(b"data: "))["choices"][0]["delta"]["content"])
    assert said == ["Ask the ", "ship", " or the ", "", f"{MASK} now"]


def test_a_stream_is_guarded_on_a_calls_way_and_counted_as_it_came() -> None:
    chats = guarded("mask in answers: skipper *")
    usage = event(choices=[], usage={"prompt_tokens": 4, "completion_tokens": 6})
    chats.ask(asking(stream=True), piece("Skip"), piece("per Holm"), usage, b"data: [DONE]\n\n", fields=[SSE])
    assert b"Holm" not in chats.driver.sent and MASK in chats.driver.sent.decode() and b"usage" not in chats.driver.sent
    assert chats.used() == (4, 6)


@given(text=st.text(max_size=60), words=st.text(alphabet="ab#* .-", min_size=2, max_size=8))
def test_what_is_found_has_its_beginning_seen_before(text: str, words: str) -> None:
    """Cut anywhere, the end of a text before a find is told to be a beginning of it: nothing passes too early."""
    try:
        rules = rules_of(f"mask in answers: {words}")
    except ValidationError:
        return
    found = rules.first(text)
    if found is not None:
        start, end, _ = found
        for cut in range(start + 1, end):
            assert rules.may_begin(text[:cut]) <= start


@pytest.mark.parametrize(
    ("fields", "words"),
    [
        ({"rules": ["launch code"]}, "is no rule"),
        ({"rules": ["refuse in answers: x1"]}, "write end in answers"),
        ({"rules": ["end in prompts: x1"]}, "write refuse in prompts"),
        ({"rules": ["mask in prompts: a*b*"]}, "more than one"),
        ({"rules": ["mask in prompts: --"]}, "would be found everywhere"),
        ({"bounds": ["max_tokens: few"]}, "is no bound"),
        ({"bounds": ["temperature: 2 to 1"]}, "put the lower number first"),
        ({"longest": 0}, "greater than or equal to 1"),
    ],
)
def test_what_cannot_be_is_told(fields: dict[str, Any], words: str) -> None:
    with pytest.raises(ValidationError, match=words):
        PromptGuard.model_validate(fields)


def test_an_answer_in_a_coding_does_not_pass_rules_unseen() -> None:
    chats = guarded("mask in answers: skipper *")
    coded = [(b"content-type", b"application/json"), (b"content-encoding", b"gzip")]
    outcome = chats.ask(asking(), b"\x1f\x8b", fields=coded)
    assert isinstance(outcome, Refusal) and outcome.reason.code == "answer-unreadable"
    assert chats.ask(asking(), b"\x1f\x8b", fields=coded, status=503).status == 503


@given(many=st.integers(1, 2_000))
def test_what_is_found_many_times_is_masked_every_time(many: int) -> None:
    text, rule = rules_of("mask in prompts: skipper", "mask in prompts: # #", "mask in prompts: none such").masked(
        "skipper 1 2 " * many
    )
    assert (text, rule) == (f"{MASK} {MASK} " * many, None)
