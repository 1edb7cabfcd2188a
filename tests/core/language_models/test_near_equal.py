"""Prompts that ask the same are given one answer: what counts as the same, by words and by meaning, and what never."""

from typing import Any

import numpy as np
import orjson
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, rule
from pydantic import ValidationError

from core.carried import NOW
from core.language_models.chats import SSE, Chats, asking, event, piece, told
from core.language_models.questions import DIFFERENT, SAME
from tamarack.core.carrying.forwarding import Passed
from tamarack.core.carrying.parts import Reply
from tamarack.core.language_models.near_equal import index
from tamarack.core.language_models.near_equal.comparison import compare
from tamarack.core.language_models.near_equal.index import DIMENSIONS, Meanings
from tamarack.core.language_models.near_equal.word_guard import difference, names_in
from tamarack.core.language_models.near_equal.wording import Synonyms, wording
from tamarack.core.policies.answer.near_equal_prompts import NearEqualPrompts
from tamarack.embedding import Embedding, load

MEANING = load()
SAILS = "When does the last ferry to Brae Haven leave?"


def near(**more: Any) -> Chats:
    """An API that keeps answers, by the same words unless told otherwise."""
    beside = more.pop("beside", ())
    return Chats({"kind": "near-equal-prompts"} | more, *beside, embed=MEANING)


def cool(text: str = SAILS, **more: Any) -> bytes:
    """A prompt at temperature 0."""
    return asking(text, **{"temperature": 0} | more)


def status_of(outcome: Any) -> str:
    """What Cache-Status says of an answer."""
    assert isinstance(outcome, Reply | Passed)
    lines = outcome.fields.decode().split("\r\n")
    return next(line.partition(": ")[2] for line in lines if line.startswith("cache-status: "))


# the same words


@pytest.mark.parametrize(("one", "other"), DIFFERENT)
def test_other_questions_are_never_the_same_by_their_words_nor_by_their_meaning(one: str, other: str) -> None:
    assert wording(one) != wording(other)
    assert difference(wording(one), wording(other), names_in(one) | names_in(other), alike)


def alike(one: str, other: str) -> float:
    return float(MEANING(one) @ MEANING(other))


def test_of_questions_that_are_the_same_a_third_has_the_same_words_and_half_are_found_by_their_meaning() -> None:
    words = [wording(one) == wording(other) for one, other in SAME]
    meant = [
        not difference(wording(one), wording(other), names_in(one) | names_in(other), alike)
        and alike(one, other) >= 0.8
        for one, other in SAME
    ]
    assert sum(words) > len(SAME) / 3 and sum(meant) > len(SAME) / 2
    assert not any(by_words and not alike(*pair) >= 0.6 for by_words, pair in zip(words, SAME, strict=True))


WORDS = st.lists(st.sampled_from(["ferry", "berth", "14:05", "late", "Eskholm", "Holm", "crew", "not", "last", "ramp", "before", "tide"]), min_size=3,
                 max_size=8, unique=True)  # fmt: skip


@given(WORDS, st.sampled_from(["", "Please, ", "Hello! ", "Could you "]), st.sampled_from(["", ".", "!", ", thanks"]))
def test_politeness_signs_and_case_change_nothing(words: list[str], before: str, after: str) -> None:
    said = "draft for the harbour " + " ".join(words)
    assert wording(before + said + after) == wording(said)
    assert wording(said.replace("ferry", "Ferry").replace("the ", "a ")) == wording(said)


@given(WORDS, st.data())
def test_any_other_word_any_other_order_and_any_more_or_less_is_another_question(words: list[str], data: Any) -> None:
    one = wording("draft the " + " ".join(words))
    first, second = sorted(data.draw(st.lists(st.sampled_from(range(len(words))), min_size=2, max_size=2, unique=True)))
    swapped = [*words]
    swapped[first], swapped[second] = words[second], words[first]
    others = [swapped, [*words[:first], *words[first + 1 :]], [*words[:first], "never", *words[first:]],
              [*words[:first], "fog", *words[first + 1 :]]]  # fmt: skip
    assert all(wording("draft the " + " ".join(other)) != one for other in others)


def test_a_teams_own_words_stand_for_one_another_and_phrases_do_too() -> None:
    same = Synonyms([["leave", "depart", "set off"], ["ferry", "boat"]])
    assert wording(SAILS, same) == wording("When does the last boat to Brae Haven set off?", same)
    assert wording(SAILS, same) != wording("When does the last boat to Brae Haven arrive?", same)


@pytest.mark.parametrize(
    ("one", "other"),
    [("if (a) b;", "if (a) b"), ("a_b", "a b"), ("one\ntwo three", "one two three"), ("x" * 5000, "x" * 5001)],
)
def test_code_and_lists_are_the_same_only_where_every_sign_is(one: str, other: str) -> None:
    assert wording(one) == wording(one) != wording(other)


# on a call's way


def test_five_phrasings_of_one_question_ask_the_model_once() -> None:
    chats = near(same=["leave, depart"])
    first = chats.ask(cool(), told(12, 30))
    assert status_of(first).endswith("; stored")
    for text in (
        "when does the last ferry to Brae Haven leave",
        "Could you tell me when the last ferry to Brae Haven leave?",
        "At what time does the last ferry to Brae Haven leave?",
        "Hello, what time does the last ferry to Brae Haven depart, please?",
    ):
        outcome = chats.ask(cool(text), told())
        assert "hit; ttl=3600; detail=same-words" in status_of(outcome), text
        assert chats.used() == (0, 0) and chats.call.prompt.saved_tokens == 42
    assert len(chats.sent) == 1
    assert "detail" not in status_of(chats.ask(cool(), told()))


OTHERS: list[dict[str, Any]] = [
    {"text": "When does the first ferry to Brae Haven leave?"},
    {"model": "quay-notices-1-long"},
    {"max_tokens": 5},
    {"temperature": 0.1},
    {"seed": 4},
    {"user": "mara"},
    {"messages": [{"role": "system", "content": "Be brief."}, {"role": "user", "content": SAILS}]},
    {"messages": [{"role": "user", "content": "Hello"}, {"role": "user", "content": SAILS}]},
]


@pytest.mark.parametrize("alike", ["by the same words", "by their meaning"])
@pytest.mark.parametrize("other", OTHERS)
def test_all_but_the_question_must_be_equal(alike: str, other: dict[str, Any]) -> None:
    chats = near(alike=alike)
    chats.ask(cool(), told())
    chats.ask(cool(**other), told())
    assert len(chats.sent) == 2


@pytest.mark.parametrize(
    ("body", "why"),
    [
        (asking(SAILS), "has the temperature 1.0, as it names none; up to 0.2"),
        (cool(temperature=0.3), "has the temperature 0.3; up to 0.2"),
        (cool(temperature="low"), "no number"),
        (b'{"messages": [{"role": "user", "content": "a"}], "temperature": 1' + b"0" * 30 + b"}", "temperature 10000"),
        (cool(tools=[{"type": "function"}]), "lets the model use tools"),
        (cool(n=2), "asks for 2 answers"),
        (cool(messages=[{"role": "assistant", "content": "x"}]), "does not end with one text of a user"),
        (cool(messages=[{"role": "user", "content": [{"type": "image_url"}]}]), "does not end with one text"),
        (
            orjson.dumps({"model": "m", "input": "embed", "prompt": "me", "temperature": 0}),
            "does not end with one text",
        ),
        (b"[]", "is no JSON object"),
    ],
)
def test_what_is_not_compared_goes_to_the_model_and_the_trace_says_why(body: bytes, why: str) -> None:
    chats = near()
    for _ in range(2):
        assert status_of(chats.ask(body, told())) == "tamarack; fwd=bypass"
        assert why in chats.call.note_of_cache
    assert len(chats.sent) == 2


@pytest.mark.parametrize(
    ("says", "asked"), [(b"no-cache", 2), (b"max-age=0", 2), (b"no-store", 1), (b"only-if-cached", 1)]
)
def test_callers_can_ask_the_model_all_the_same(says: bytes, asked: int) -> None:
    chats = near()
    chats.ask(cool(), told())
    chats.ask(cool(), told(), headers=[(b"cache-control", says)], now=NOW + 5)
    assert len(chats.sent) == asked


def test_an_answer_holds_for_its_time_and_not_where_the_backend_or_its_status_says_otherwise() -> None:
    chats = near(own_time=60)
    chats.ask(cool(), told())
    chats.ask(cool(), told(), now=NOW + 59)
    chats.ask(cool(), told(), now=NOW + 61)
    assert len(chats.sent) == 2
    for answer in ({"fields": [(b"cache-control", b"no-store")]}, {"status": 500}, {"status": 429}):
        chats = near()
        chats.ask(cool(), told(), **answer)
        chats.ask(cool(), told(), **answer)
        assert len(chats.sent) == 2


def test_a_stream_is_given_again_as_a_stream_without_the_usage_that_its_caller_did_not_ask_for() -> None:
    chats = near()
    pieces = (piece("Dear"), piece(" all"), event(choices=[], usage={"prompt_tokens": 3, "completion_tokens": 4}))
    chats.ask(cool(stream=True), *pieces, fields=[SSE])
    first = chats.driver.sent
    again = chats.ask(cool("what time does the last ferry to Brae Haven leave", stream=True), *pieces, fields=[SSE])
    assert (
        isinstance(again, Reply)
        and again.body == first
        and b"usage" not in first
        and b"text/event-stream" in again.fields
    )
    assert chats.call.prompt.saved_tokens == 7
    chats.ask(cool(stream=True, stream_options={"include_usage": True}), *pieces, fields=[SSE])
    assert len(chats.sent) == 2 and b"usage" in chats.driver.sent


def test_what_is_kept_was_held_against_the_rules_and_is_given_so() -> None:
    chats = near(beside=[{"kind": "prompt-guard", "rules": ["mask in answers: skipper *"]}])
    chats.ask(cool(), told(text="Ask Skipper Holm."))
    again = chats.ask(cool(), told())
    assert isinstance(again, Reply) and again.body == chats.memory.get(chats.call.lookup.key).body  # type: ignore[union-attr]
    assert b"Holm" not in again.body and len(chats.sent) == 1


@pytest.mark.parametrize("text", ["", " ", "?", "\\ud800", "x" * 100_000, "\u200b", "a" * 9, "\U0001f642", "1" * 500])
def test_odd_questions_are_the_same_as_themselves(text: str) -> None:
    body = (
        b'{"messages":[{"role":"user","content":"%b"}],"temperature":0,"seed":12345678901234567890123}' % text.encode()
    )
    chats = near(alike="by their meaning")
    outcomes = [chats.ask(body, told()) for _ in range(2)]
    if chats.call.prompt.document is not None:  # a lone surrogate is no JSON
        assert len(chats.sent) == 1 and "hit" in status_of(outcomes[1])


def test_purging_forgets_the_question_with_the_answer() -> None:
    chats = near(alike="by their meaning")
    chats.ask(cool(), told())
    key = chats.call.lookup.key
    assert b"Eskholm" not in key and b"caller: " in key
    chats.memory.purge(chats.memory.get(key).policy)  # type: ignore[union-attr]
    assert (len(chats.memory), len(chats.memory._meanings), chats.memory.size) == (0, 0, 0)
    chats.ask(cool("When is the last ferry to Brae Haven leaving?"), told())
    assert len(chats.sent) == 2


# by meaning


def test_by_meaning_other_words_are_found_and_the_guard_holds_what_only_looks_alike() -> None:
    chats = near(alike="by their meaning")
    chats.ask(cool(), told())
    found = chats.ask(cool("When is the last ferry to Brae Haven departing?"), told())
    assert "; detail=similarity-0.9" in status_of(found) and "near-equal prompt, 0.9" in chats.call.note
    for text in ("When does the last ferry from Brae Haven leave?", "When does the last ferry to Dunmoor leave?"):
        chats.ask(cool(text), told())
    assert len(chats.sent) == 3
    assert len(chats.memory) == 3


def test_without_its_model_words_are_compared_all_the_same() -> None:
    said: list[str] = []

    def broken() -> Any:
        raise OSError("no such file")

    embedding = Embedding(said.append, broken)
    embedding.wait()
    assert embedding("a text") is None and "by their words alone" in said[0] and len(said) == 1
    chats = Chats({"kind": "near-equal-prompts", "alike": "by their meaning"}, embed=embedding)
    chats.ask(cool(), told())
    chats.ask(cool("what time does the last ferry to Brae Haven leave?"), told())
    assert len(chats.sent) == 1


class Brute(RuleBasedStateMachine):
    """The index finds what comparing with every meaning finds, whatever was put in and taken out."""

    def __init__(self) -> None:
        super().__init__()
        self.index, self.held = Meanings(), dict[tuple[bytes, bytes], Any]()
        self.chance = np.random.default_rng(7)
        self.centres = self.chance.normal(size=(4, DIMENSIONS)).astype(np.float32)

    def meaning(self, centre: int, apart: float) -> Any:
        made = self.centres[centre] + self.chance.normal(size=DIMENSIONS).astype(np.float32) * apart
        return made / np.linalg.norm(made)

    @rule(
        group=st.sampled_from([b"a", b"b"]),
        number=st.integers(0, 30),
        centre=st.integers(0, 3),
        apart=st.floats(0.01, 1),
    )
    def put(self, group: bytes, number: int, centre: int, apart: float) -> None:
        key = b"%d" % number
        for other in (b"a", b"b"):
            self.held.pop((other, key), None)
        self.held[group, key] = meaning = self.meaning(centre, apart)
        self.index.put(group, key, meaning)

    @rule(number=st.integers(0, 30))
    def take_out(self, number: int) -> None:
        key = b"%d" % number
        self.index.take_out(key)
        for group in (b"a", b"b"):
            self.held.pop((group, key), None)

    @rule(group=st.sampled_from([b"a", b"b"]), centre=st.integers(0, 3), odd=st.booleans())
    def find(self, group: bytes, centre: int, odd: bool) -> None:
        asked = self.meaning(centre, 0.2)

        def fits(key: bytes, _: float) -> bool:
            return not odd or bool(int(key) % 2)

        mine = [(float(m @ asked), key) for (g, key), m in self.held.items() if g == group and fits(key, 0)]
        best = max((pair for pair in mine if pair[0] >= 0.8), default=None)
        found = self.index.nearest(group, asked, 0.8, fits)
        if best is None:
            assert found is None or found[1] == pytest.approx(0.8, abs=1e-5)
        else:
            assert found is not None and found[1] == pytest.approx(best[0], abs=1e-5)

    @invariant()
    def counts(self) -> None:
        assert len(self.index) == len(self.held)


TestIndex = Brute.TestCase
TestIndex.settings = settings(max_examples=25, stateful_step_count=30)


def test_a_large_group_is_searched_by_signs_first_and_finds_the_same(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(index, "_SMALL", 100)
    chance = np.random.default_rng(5)
    held = chance.normal(size=(2_000, DIMENSIONS)).astype(np.float32)
    held /= np.linalg.norm(held, axis=1, keepdims=True)
    kept = Meanings()
    for number, meaning in enumerate(held):
        kept.put(b"g", b"%d" % number, meaning)
    for number in range(1_900):
        kept.take_out(b"%d" % number) if number % 3 else None
    for number in range(0, 1_900, 57):
        asked = held[number] + chance.normal(size=DIMENSIONS).astype(np.float32) * 0.03
        found = kept.nearest(b"g", asked / np.linalg.norm(asked), 0.8, lambda key, alike: True)
        assert (found[0] if found else b"") == (b"%d" % number if number % 3 == 0 else b"")


# trying

ASKED = [SAILS, "At what time does the last ferry to Brae Haven leave?", "When is the last ferry to Brae Haven leaving?",
         "When does the first ferry to Brae Haven leave?", "Draft a notice."]  # fmt: skip


@given(st.lists(st.sampled_from(ASKED), max_size=7), st.sampled_from([0.0, 0.6, 0.8, 1.0]))
def test_what_is_tried_comes_out_as_a_node_does_it(texts: list[str], nearest: float) -> None:
    policy = {"alike": "by their meaning", "nearest": nearest} if nearest else {}
    tried = compare(texts, NearEqualPrompts.model_validate(policy).comparing, MEANING if nearest else None)
    chats = near(**policy)
    for text, by in zip(texts, tried.answered_by, strict=True):
        before = len(chats.sent)
        chats.ask(cool(text), told())
        assert (len(chats.sent) > before) == (by is None)
    assert tried.asked == len(chats.sent)
    assert all(step.asked + step.given == len(texts) for step in tried.steps)
    assert [step.asked for step in tried.steps] == sorted(step.asked for step in tried.steps)


# the policy


@pytest.mark.parametrize(
    ("given", "said"),
    [
        ({"same": ["alone"]}, "is one alone"),
        ({"same": ["a, b", "c, B"]}, "stands in 'a, b' and in 'c, B'"),
        ({"same": ["a, !"]}, "no word or phrase"),
        ({"warmest": 0.6}, "less than or equal to 0.5"),
        ({"nearest": 0.5}, "greater than or equal to 0.6"),
    ],
)
def test_a_policy_that_makes_no_sense_is_refused_by_name(given: dict[str, Any], said: str) -> None:
    with pytest.raises(ValidationError, match=said):
        NearEqualPrompts.model_validate(given)
