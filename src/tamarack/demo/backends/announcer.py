"""The stand-ins that draft notices: they answer like language models, in the common form of chat completions.

There is no model in them: they turn what they are told into a polite notice, and count words as tokens. Asked to, they
tell the draft piece by piece as events of a stream, and at their end what it took. One has so many tokens in some
seconds and turns away what is over, with the time to wait; the other takes everything. Both also answer in a shape of
their own, at `/drafts`.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from typing import Any
from zlib import crc32

import orjson

RESERVED_MODELS = ("quay-notices-1", "quay-notices-1-long")
OVERFLOW_MODELS = ("tide-notices-2",)
_SLOW = "quay-notices-1-long"
RESERVED_TOKENS, RESERVED_S = 260, 10
"""What the reserved one takes in so many seconds."""
DIMENSIONS = 32
LONGEST = 400
_OPENINGS = ("Dear passengers:", "May we have your attention, please.", "A notice from the quay:")
_ENDINGS = (
    "We are sorry for the wait, and thank you for your patience.",
    "Please listen for further notices.",
    "Tickets stay valid for the next departure.",
)


@dataclass(frozen=True)
class Events:
    """Server-sent events, each with its blank line, told one after the other; `slow` takes more time between them."""

    pieces: tuple[bytes, ...]
    slow: bool = False


@dataclass(frozen=True)
class TurnedAway:
    """A call that is not taken, and the seconds after which it may come again."""

    told: dict[str, Any]
    after_s: int


def tokens(text: str) -> int:
    """How many tokens a text counts as: about four for three words."""
    return -(-len(text.split()) * 4 // 3)


def _texts(value: Any) -> list[str]:
    if isinstance(value, str):
        return [value]
    if isinstance(value, list):
        return [text for one in value for text in _texts(one)]
    return []


@dataclass
class Announcer:
    """Drafts with some models; with `capacity`, so many tokens in some seconds."""

    models: tuple[str, ...]
    capacity: int = 0
    within_s: int = RESERVED_S
    clock: Callable[[], float] = time.time
    _used: tuple[int, int] = field(default=(0, 0))
    """Which stretch runs, and the tokens used in it."""

    def __call__(self, method: str, path: list[str], query: dict[str, str], body: bytes) -> tuple[int, Any]:
        """Answer a call."""
        match method, path:
            case "GET", ["models"]:
                return 200, {"object": "list", "data": [self._model(name) for name in self.models]}
            case "POST", ["chat", "completions"] | ["completions"] | ["embeddings"] | ["drafts"]:
                pass
            case _:
                return 404, {"title": "Not found", "detail": "there is no such thing here"}
        try:
            asked = orjson.loads(body)
            said, prompt = self._said(path, asked)
        except (ValueError, KeyError, TypeError, StopIteration):
            return 400, {"title": "Nothing to draft", "detail": "messages is a list with at least one of a user"}
        model = asked.get("which" if path == ["drafts"] else "model") or self.models[0]
        if model not in self.models:
            return 404, {"title": "No such model", "detail": f"there are {' and '.join(self.models)}"}
        place = len(said)
        draft = f"{_OPENINGS[place % 3]} {said.strip().rstrip('.')}. {_ENDINGS[place // 3 % 3]}"
        most = asked.get("longest") or asked.get("max_completion_tokens") or asked.get("max_tokens") or LONGEST
        draft, finish = _cut(draft, int(most) if isinstance(most, int) and most > 0 else LONGEST)
        completion = 0 if path == ["embeddings"] else tokens(draft)
        away = self._over(prompt + completion)
        if away is not None:
            return 429, away
        if path == ["drafts"]:
            return 200, {"notice": draft, "by": model, "took": {"in": prompt, "out": completion}}
        usage = {"prompt_tokens": prompt, "completion_tokens": completion, "total_tokens": prompt + completion}
        if path == ["embeddings"]:
            data = [{"object": "embedding", "index": at, "embedding": _vector(text)}
                    for at, text in enumerate(_texts(asked["input"]))]  # fmt: skip
            return 200, {"object": "list", "model": model, "data": data, "usage": usage}
        head = {"id": f"draft-{place}", "created": int(self.clock()), "model": model}
        if path == ["completions"]:
            choice: dict[str, Any] = {"index": 0, "text": draft, "finish_reason": finish}
            return 200, head | {"object": "text_completion", "choices": [choice], "usage": usage}
        if asked.get("stream"):
            options = asked.get("stream_options")
            tells = isinstance(options, dict) and bool(options.get("include_usage"))
            return 200, Events(tuple(_events(head, draft, finish, usage if tells else None)), model == _SLOW)
        message = {"role": "assistant", "content": draft}
        choice = {"index": 0, "message": message, "finish_reason": finish}
        return 200, head | {"object": "chat.completion", "choices": [choice], "usage": usage}

    def _said(self, path: list[str], asked: Any) -> tuple[str, int]:
        """What to draft from, and the tokens of all that was told."""
        if path == ["chat", "completions"]:
            messages = [(str(one["role"]), " ".join(_texts(one["content"]))) for one in asked["messages"]]
            said = next(content for role, content in reversed(messages) if role == "user")
            return said, sum(tokens(content) for _, content in messages)
        text = " ".join(_texts(asked[{"completions": "prompt", "embeddings": "input", "drafts": "happened"}[path[0]]]))
        return text, tokens(text)

    def _over(self, many: int) -> TurnedAway | None:
        """Count a call's tokens, or turn it away."""
        if not self.capacity:
            return None
        now = self.clock()
        stretch = int(now) // self.within_s
        used = self._used[1] if self._used[0] == stretch else 0
        if used + many > self.capacity:
            told = {
                "title": "Too many tokens",
                "detail": f"{self.capacity} tokens in {self.within_s} seconds are reserved",
            }
            return TurnedAway(told, max(1, int((stretch + 1) * self.within_s - now + 0.999)))
        self._used = (stretch, used + many)
        return None

    @staticmethod
    def _model(name: str) -> dict[str, Any]:
        return {"id": name, "object": "model", "created": 1_700_000_000, "owned_by": "skerry"}


def _cut(draft: str, most: int) -> tuple[str, str]:
    """A draft of at most so many tokens, and why it ends where it does."""
    if tokens(draft) <= most:
        return draft, "stop"
    words = draft.split(" ")
    while words and tokens(" ".join(words)) > most:
        words.pop()
    return " ".join(words), "length"


def _vector(text: str) -> list[float]:
    """Numbers that are the same for the same words."""
    found = [0.0] * DIMENSIONS
    for word in text.lower().split():
        found[crc32(word.encode()) % DIMENSIONS] += 1.0
    length = sum(one * one for one in found) ** 0.5 or 1.0
    return [one / length for one in found]


def _events(head: dict[str, Any], draft: str, finish: str, usage: dict[str, int] | None) -> Iterator[bytes]:
    """A draft word by word, then that it is done, then what it took where that was asked for."""
    head = head | {"object": "chat.completion.chunk"}
    words = draft.split(" ")
    for place, word in enumerate(words):
        said = {"content": word if place == len(words) - 1 else f"{word} "}
        delta = {"role": "assistant"} | said if place == 0 else said
        yield _event(head | {"choices": [{"index": 0, "delta": delta, "finish_reason": None}]})
    yield _event(head | {"choices": [{"index": 0, "delta": {}, "finish_reason": finish}]})
    if usage is not None:
        yield _event(head | {"choices": [], "usage": usage})
    yield b"data: [DONE]\n\n"


def _event(told: dict[str, Any]) -> bytes:
    return b"data: " + orjson.dumps(told) + b"\n\n"
