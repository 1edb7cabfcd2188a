"""What is kept of prompts and answers where a policy says so: as the caller got it, masked, and bounded."""

from typing import Any

import orjson
import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from core.language_models.chats import SSE, Chats, asking, event, piece, told
from tamarack.core.carrying.refusals import Refusal
from tamarack.core.language_models.masks import Masks
from tamarack.core.language_models.word_rules import MASK
from tamarack.core.policies.returns.prompt_log import PromptLog


def logging(*beside: dict[str, Any], **more: Any) -> Chats:
    return Chats(*beside, {"kind": "prompt-log"} | more)


def entry(chats: Chats) -> dict[str, Any]:
    """What is kept of the last call."""
    logged = chats.call.prompt.logged
    assert logged is not None
    made: dict[str, Any] = logged.entry(chats.call, "production")
    return made


def test_nothing_is_kept_without_the_policy() -> None:
    chats = Chats({"kind": "token-count"})
    chats.ask(asking(), told())
    assert chats.call.prompt.logged is None


def test_prompt_and_answer_are_kept_masked_with_whose_they_are() -> None:
    chats = logging(masked=["skipper *"])
    said = "Tell skipper Holm, n.holm@holm.example or +44 1632 960 123, that booking 12345 is late."
    chats.ask(asking(said), told(text="Dear Skipper Holm, write to n.holm@holm.example"))
    kept = entry(chats)
    assert kept["texts"] == [["user", f"Tell {MASK}, {MASK} or {MASK}, that booking 12345 is late."]]
    assert kept["answer"] == f"Dear {MASK}, write to {MASK}"
    assert (kept["application"], kept["model"], kept["days"], kept["cut"]) == (
        "berth-board",
        "quay-notices-1",
        7,
        False,
    )


def test_what_a_guard_masked_or_refused_is_not_kept() -> None:
    guard = {
        "kind": "prompt-guard",
        "rules": ["mask in answers: launch *", "mask in prompts: ####", "refuse in prompts: reef"],
    }
    chats = logging(guard, usual=False)
    chats.ask(asking("Code 1234?"), told(text="The launch code"))
    assert (entry(chats)["texts"][0][1], entry(chats)["answer"]) == (f"Code {MASK}?", f"The {MASK}")
    assert isinstance(chats.ask(asking("Where is the reef?"), told()), Refusal)
    assert entry(chats)["texts"] == [["user", "Where is the "]] and entry(chats)["answer"] == ""


def test_a_streams_answer_is_put_together_and_a_kept_answer_is_kept_too() -> None:
    chats = logging()
    chats.ask(asking(stream=True), piece("Dear "), piece("all"), event(choices=[]), fields=[SSE])
    assert entry(chats)["answer"] == "Dear all"
    chats = logging({"kind": "near-equal-prompts", "warmest": 0.5})
    for _ in range(2):
        chats.ask(asking(temperature=0), told(text="Dear passengers"))
        assert entry(chats)["answer"] == "Dear passengers"
    assert len(chats.sent) == 1


def test_of_long_prompts_the_newest_is_kept_and_no_mask_is_cut_in_two() -> None:
    chats = logging(longest=100)
    messages = [{"role": "system", "content": "s" * 80}, {"role": "user", "content": "u" * 96 + " 1234567890"}]
    chats.ask(asking(messages=messages), told(text="a" * 99 + " n.holm@holm.example"))
    kept = entry(chats)
    assert kept["texts"] == [["user", "u" * 96 + f" {MASK}"]] and kept["cut"]
    assert kept["answer"] == "a" * 99 + " "


@pytest.mark.parametrize(
    "body",
    [b"[]", b"7", b"{", asking(messages=None), asking(messages=[["x"]]), orjson.dumps({"prompt": {"a": ["b", {"role": 7}]}}),
     asking(messages=[{"role": "r" * 500, "content": "\x00\x1b"}] * 300)],
)  # fmt: skip
def test_odd_prompts_are_kept_as_far_as_they_have_texts(body: bytes) -> None:
    chats = logging()
    chats.ask(body, b"no json", fields=[])
    kept = entry(chats)
    assert len(kept["texts"]) <= 200 and all(len(role) <= 20 for role, _ in kept["texts"])
    assert "\x00" not in orjson.dumps(kept).decode() and "\\u0000" not in orjson.dumps(kept).decode()


def test_a_share_of_the_calls_is_kept() -> None:
    chats, kept = logging(share=10), 0
    for number in range(1000):
        chats.bed.call = _numbered(chats.bed.call, number)  # type: ignore[method-assign]
        chats.ask(asking(), told())
        kept += chats.call.prompt.logged is not None
    assert kept == 100


def _numbered(make: Any, number: int) -> Any:
    plain = getattr(make, "plain", make)

    def made(*args: Any, **more: Any) -> Any:
        call = plain(*args, **more)
        call.id = b"%06x" % number
        return call

    made.plain = plain  # type: ignore[attr-defined]
    return made


@pytest.mark.parametrize(
    "own",
    ["n.holm+x@holm.example", "n" * 100 + "@holm.example", "+44 (0)1632 960 123", "4111 1111 1111 1111", "Bearer abcdefgh.ijk", "tmk_f6sw9pqdq7vsdkha7djnf2h",
     "eyJhbGciOi.eyJzdWIiOi.c2ln", "postgresql://marsh:pw@db.example/x"],
)  # fmt: skip
def test_what_mostly_is_someones_own_is_masked(own: str) -> None:
    shown = Masks().masked(f"see {own} please")
    assert MASK in shown and own not in shown and shown.startswith("see ") and shown.endswith(" please")


@given(st.text(max_size=300))
def test_masking_twice_masks_no_more_and_plain_words_stay(text: str) -> None:
    once = Masks(["skipper *"]).masked(text)
    assert Masks(["skipper *"]).masked(once) == once
    assert Masks().masked("The 07:30 from Corran is 40 minutes late on 2026-11-28.").startswith("The 07:30 from Corran")


@pytest.mark.parametrize(
    ("given", "said"),
    [
        ({"days": 91}, "less than or equal to 90"),
        ({"masked": ["***"]}, "more than one"),
        ({"masked": ["!!"]}, "no letter"),
    ],
)
def test_a_log_that_makes_no_sense_is_refused_by_name(given: dict[str, Any], said: str) -> None:
    with pytest.raises(ValidationError, match=said):
        PromptLog.model_validate(given)
