"""Token limits: a call reserves what it may use, and what it used is settled when its answer is there."""

from typing import Any

import orjson
import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from core.language_models.chats import SSE, Chats, asking, event, piece, told
from helpers import configuration
from tamarack.core.carrying.refusals import Refusal
from tamarack.core.limits.store import Limiter
from tamarack.core.limits.told import standard
from tamarack.core.policies.meter.token_limit import TokenLimit

PER_MINUTE: dict[str, Any] = {"kind": "token-limit", "windows": ["100 per minute"], "by": "everyone"}


def left(chats: Chats) -> int:
    """What the last call left of the tightest limit of tokens."""
    taken = chats.call.taken
    assert taken is not None
    return (taken.tokens or taken).left


def test_what_a_call_took_is_settled_whether_it_reserved_more_or_less() -> None:
    chats = Chats(PER_MINUTE)
    chats.ask(asking("12345678", max_tokens=50), told(prompt=10, completion=5))  # about 9 + 50 are reserved
    assert left(chats) < 45
    chats.ask(asking("12345678", max_tokens=1), told(prompt=10, completion=30))
    assert 70 < left(chats) <= 100 - 15
    chats.ask(asking("1", max_tokens=1), told(prompt=1, completion=1))
    assert left(chats) < 100 - 15 - 40
    assert chats.used() == (1, 1)


def test_calls_that_no_answer_comes_of_use_nothing() -> None:
    chats = Chats(PER_MINUTE)
    for _ in range(5):
        chats.ask(asking(max_tokens=80), b'{"detail": "busy"}', status=503)
        assert chats.used() == (0, 0)
    refusal = chats.ask(asking(max_tokens=80), told(prompt=20, completion=80))
    assert not isinstance(refusal, Refusal)


def test_a_call_is_refused_where_too_little_is_left_and_told_what_it_counts_as() -> None:
    chats = Chats(PER_MINUTE)
    chats.ask(asking("12345678", max_tokens=20), told(prompt=10, completion=60))
    refusal = chats.ask(asking("12345678", max_tokens=40))
    assert isinstance(refusal, Refusal)
    assert (refusal.reason.code, refusal.status or refusal.reason.status) == ("over-tokens", 429)
    assert "100 tokens per minute" in refusal.detail and "counts as 4" in refusal.detail
    assert dict(refusal.headers)[b"retry-after"].isdigit()
    assert b'"token-limit";q=100;qu="tokens";w=60' in standard(chats.call.taken)  # type: ignore[arg-type]
    assert chats.ask(asking("12345678", max_tokens=10), told(prompt=10, completion=1)).status == 200


def test_a_call_that_alone_asks_for_more_than_a_limit_has_is_told_so_and_not_to_wait() -> None:
    chats = Chats(PER_MINUTE)
    refusal = chats.ask(asking(max_tokens=500))
    assert isinstance(refusal, Refusal)
    assert (refusal.reason.code, refusal.headers) == ("too-many-tokens", ())
    assert "up to 500 in the answer" in refusal.detail and "100 tokens per minute" in refusal.detail
    assert not isinstance(chats.ask(asking(), told()), Refusal)  # what is only guessed of an answer counts for less


@pytest.mark.parametrize(
    ("counts", "expected"), [("prompt and completion", 100 - 30), ("prompt", 100 - 10), ("completion", 100 - 20)]
)
def test_it_counts_the_tokens_that_it_says(counts: str, expected: int) -> None:
    chats = Chats(PER_MINUTE | {"counts": counts})
    chats.ask(asking("1", max_tokens=1), told(prompt=10, completion=20))
    chats.ask(asking("", max_tokens=1, messages=[]), told(prompt=0, completion=0))
    assert expected - 6 <= left(chats) <= expected


def test_each_model_counts_by_itself() -> None:
    chats = Chats(PER_MINUTE | {"by": "model"})
    chats.ask(asking("1", max_tokens=90), told(prompt=5, completion=90))
    assert isinstance(chats.ask(asking("1", max_tokens=90)), Refusal)
    assert not isinstance(chats.ask(asking("1", max_tokens=90, model="quay-notices-1-long"), told()), Refusal)


def test_several_answers_are_reserved_for() -> None:
    chats = Chats(PER_MINUTE)
    assert isinstance(chats.ask(asking("1", max_tokens=40, n=3)), Refusal)
    assert not isinstance(chats.ask(asking("1", max_tokens=40, n=2), told()), Refusal)


def test_a_stream_is_asked_for_its_usage_and_the_caller_who_did_not_ask_sees_none() -> None:
    chats = Chats(PER_MINUTE)
    usage = {"prompt_tokens": 7, "completion_tokens": 3}
    stream = (piece("Dear ", usage=None), piece("all", usage=None), event(choices=[], usage=usage), b"data: [DONE]\n\n")
    chats.ask(asking(stream=True, max_tokens=20), *stream, fields=[SSE, (b"content-length", b"999")])
    assert chats.sent[-1][1]["stream_options"] == {"include_usage": True}
    assert chats.driver.sent == piece("Dear ") + piece("all") + b"data: [DONE]\n\n"
    assert chats.used() == (7, 3)
    # who asked sees it as it came
    asked = asking(stream=True, max_tokens=20, stream_options={"include_usage": True})
    passed = chats.ask(asked, *stream, fields=[SSE])
    assert chats.driver.sent == b"".join(stream) and passed.filter is None


def test_other_options_of_a_stream_stay() -> None:
    chats = Chats(PER_MINUTE)
    chats.ask(asking(stream=True, max_tokens=1, stream_options={"obfuscation": False, "include_usage": False}))
    assert chats.sent[-1][1]["stream_options"] == {"obfuscation": False, "include_usage": True}


def test_where_no_usage_is_told_the_texts_are_counted() -> None:
    chats = Chats(PER_MINUTE, {"kind": "token-count", "usage_of_streams": "leave it alone"})
    chats.ask(asking("x" * 40, stream=True, max_tokens=60), piece("four"), piece("fourfour"), fields=[SSE])
    assert "stream_options" not in chats.sent[-1][1]
    assert chats.used() == (14, 3)
    chats.ask(asking("x" * 40, max_tokens=20), b'{"choices": [{"message": {"content": "fourfourfour"}}]}')
    assert chats.used()[1] == 3


def test_another_shape_is_described_by_its_places() -> None:
    shape = {"kind": "token-count", "prompts": ["/text"], "most": ["/longest"], "model": "/which", "prompt": "/took/in",
             "completion": "/took/out", "served": "", "answers": "", "streams": "", "cached": ""}  # fmt: skip
    chats = Chats(PER_MINUTE, shape)
    body = b'{"which": "harbour-pen", "text": "12345678", "longest": 40}'
    chats.ask(body, b'{"took": {"in": 4, "out": 9}}')
    assert (chats.used(), chats.call.prompt.model, chats.call.prompt.bound) == ((4, 9), "harbour-pen", 40)


def test_no_answer_in_a_coding_is_asked_for_since_it_could_not_be_counted() -> None:
    chats = Chats(PER_MINUTE)
    chats.ask(asking(max_tokens=1), told(), headers=[(b"accept-encoding", b"gzip")])
    assert b"accept-encoding" not in dict(chats.call.headers)


def test_what_was_read_is_what_is_sent_each_member_once() -> None:
    chats = Chats(PER_MINUTE)
    chats.ask(b'{"model": "first", "max_tokens": 10000, "max_tokens": 12345678901234567890123, "model": "last"}')
    assert isinstance(chats.ask(b'{"max_tokens": 5, "max_tokens": 5000, "messages": []}'), Refusal)
    chats.ask(b'{"max_tokens": 5000, "max_tokens": 5, "messages": [], "seed": 12345678901234567890123}', told())
    assert chats.sent[-1][1]["max_tokens"] == 5


@pytest.mark.parametrize("body", [b"{", b"[1]", b'"x"', b'{"messages": 7, "max_tokens": "many", "n": -1}', b"nul"])
def test_what_is_no_prompt_passes_as_it_came_and_counts_what_its_answer_tells(body: bytes) -> None:
    chats = Chats(PER_MINUTE)
    chats.ask(body, told(prompt=3, completion=2))
    assert chats.used() == (3, 2)
    assert chats.sent[-1][1] in (body, orjson.loads(body) if body[:1] in b'["{' and body != b"{" else body)


def test_estimates_learn_from_what_answers_tell() -> None:
    chats = Chats(PER_MINUTE | {"windows": ["1000000 per minute"]})
    for _ in range(60):
        chats.ask(asking("x" * 400), told(prompt=208, completion=44))
    prompt = chats.call.prompt
    chats.ask(asking("x" * 400), told())
    again = chats.call.prompt
    assert prompt.by_rule == again.by_rule == 104
    assert abs(again.tokens - 208) < 8 and again.completion == 44


@given(
    calls=st.lists(
        st.tuples(
            st.integers(0, 300), st.integers(1, 60), st.integers(0, 80), st.integers(0, 60), st.integers(0, 100_000)
        ),
        max_size=25,
    )
)
def test_in_no_minute_is_more_used_than_the_limit_but_for_what_answers_took_beyond_their_bound(
    calls: list[tuple[int, int, int, int, int]],
) -> None:
    chats = Chats(PER_MINUTE)
    used: dict[int, int] = {}
    beyond: dict[int, int] = {}
    for letters, bound, prompt, completion, at in sorted(calls, key=lambda one: one[4]):
        now = 1_700_000_040.0 + at / 1000
        outcome = chats.ask(asking("x" * letters, max_tokens=bound), told(prompt, completion), now=now)
        if not isinstance(outcome, Refusal):
            minute = int(now) // 60
            used[minute] = used.get(minute, 0) + sum(chats.used())
            reserved = chats.call.prompt.reserves("tokens")
            beyond[minute] = beyond.get(minute, 0) + max(0, sum(chats.used()) - reserved)
    for minute, many in used.items():
        assert many <= 100 + beyond[minute]


@pytest.mark.parametrize(
    ("policy", "words"),
    [
        ({}, "needs a window, like '20 000 per minute', or a budget"),
        ({"windows": ["5 per day", "7 per day"]}, "keep the tighter one"),
        ({"windows": ["many"]}, "'many' is not a limit"),
        ({"budget": 10, "by": "header"}, "counting by header needs its name"),
        ({"budget": 10, "by_name": "x"}, "counting by caller takes no name"),
        ({"budget": 10, "time_zone": "Skerry"}, "'Skerry' is no time zone"),
    ],
)
def test_a_limit_that_cannot_be_is_told_what_is_wrong(policy: dict[str, Any], words: str) -> None:
    with pytest.raises(ValidationError) as wrong:
        TokenLimit.model_validate(policy)
    assert words in str(wrong.value)


class Log:
    """A quota log that adds up."""

    def __init__(self) -> None:
        self.counted: dict[tuple[str, str], int] = {}

    def add(self, limiter: Limiter, key: str, cost: int) -> None:
        self.counted[limiter.id, key] = self.counted.get((limiter.id, key), 0) + cost


def test_a_budget_is_kept_by_what_calls_took_and_not_by_what_they_reserved() -> None:
    log = Log()
    chats = Chats({"kind": "token-limit", "budget": 100, "period": "day", "by": "everyone"}, log=log)
    chats.ask(asking("1", max_tokens=60), told(prompt=10, completion=20))
    chats.ask(asking("1", max_tokens=60), b"{}", status=500)
    assert log.counted == {("@tokens/sailings/2/token-limit", ""): 30}
    refusal = chats.ask(asking("1", max_tokens=80))
    assert isinstance(refusal, Refusal)
    assert refusal.reason.code == "over-tokens" and "100 tokens per day" in refusal.detail
    assert log.counted == {("@tokens/sailings/2/token-limit", ""): 30}


def test_a_plans_budget_binds_its_subscriptions_beside_its_quota() -> None:
    plan = {"name": "skiff", "title": "Skiff", "quota_calls": 100, "token_budget": 90, "token_period": "day"}
    product = {"name": "passage", "title": "Passage", "apis": ["sailings"], "plans": [plan]}
    made = configuration(
        version={
            "policies": [{"kind": "api-key", "header": "x-skerry-key"}, {"kind": "token-count"}],
            "operations": [{"call": "post /sailings"}],
        },
        products=[product],
    )
    log = Log()
    chats = Chats(made=made, log=log)
    chats.ask(asking("1", max_tokens=60), told(prompt=10, completion=40))
    assert left(chats) < 30
    refusal = chats.ask(asking("1", max_tokens=60))
    assert isinstance(refusal, Refusal)
    assert (refusal.reason.code, refusal.policy) == ("over-tokens", "skiff")
    assert log.counted == {("@quota/passage", "s"): 1, ("@tokens/passage", "s"): 50}


def test_a_soft_budget_lets_calls_through_and_marks_them() -> None:
    chats = Chats({"kind": "token-limit", "budget": 20, "period": "day", "when_used_up": "let through"})
    chats.ask(asking("1", max_tokens=5), told(prompt=10, completion=10))
    assert chats.ask(asking("1", max_tokens=500), told()).status == 200
    assert chats.call.taken is not None and chats.call.taken.over is not None
