"""The stand-in that drafts notices: it answers like a language model, in the common form of chat completions.

There is no model in it: it turns what it is told into a polite notice, and counts words as tokens. Asked to, it tells
the draft piece by piece as events of a stream, and at their end what it took.
"""

from __future__ import annotations

import time
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import orjson

MODEL = "quay-notices-1"
MODELS = (MODEL, "quay-notices-1-long")
_OPENINGS = ("Dear passengers:", "May we have your attention, please.", "A notice from the quay:")
_ENDINGS = (
    "We are sorry for the wait, and thank you for your patience.",
    "Please listen for further notices.",
    "Tickets stay valid for the next departure.",
)


@dataclass(frozen=True)
class Events:
    """Server-sent events, each with its blank line, told one after the other."""

    pieces: tuple[bytes, ...]


def tokens(text: str) -> int:
    """How many tokens a text counts as: about four for three words."""
    return -(-len(text.split()) * 4 // 3)


def announcer(method: str, path: list[str], query: dict[str, str], body: bytes) -> tuple[int, Any]:
    """Draft a notice from the last message of a user, or tell which models there are."""
    if (method, path) == ("GET", ["models"]):
        return 200, {"object": "list", "data": [_model(name) for name in MODELS]}
    if (method, path) != ("POST", ["chat", "completions"]):
        return 404, {"title": "Not found", "detail": "there is no such thing here"}
    try:
        asked = orjson.loads(body)
        messages = [(str(one["role"]), str(one["content"])) for one in asked["messages"]]
        said = next(content for role, content in reversed(messages) if role == "user")
    except (ValueError, KeyError, TypeError, StopIteration):
        return 400, {"title": "Nothing to draft", "detail": "messages is a list with at least one of a user"}
    model = asked.get("model", MODEL)
    if model not in MODELS:
        return 404, {"title": "No such model", "detail": f"there are {' and '.join(MODELS)}"}
    place = len(said)
    draft = f"{_OPENINGS[place % 3]} {said.strip().rstrip('.')}. {_ENDINGS[place // 3 % 3]}"
    prompt, completion = sum(tokens(content) for _, content in messages), tokens(draft)
    usage = {"prompt_tokens": prompt, "completion_tokens": completion, "total_tokens": prompt + completion}
    head = {"id": f"draft-{place}", "created": int(time.time()), "model": model}
    if asked.get("stream"):
        options = asked.get("stream_options")
        tells = isinstance(options, dict) and bool(options.get("include_usage"))
        return 200, Events(tuple(_events(head, draft, usage if tells else None)))
    message = {"role": "assistant", "content": draft}
    choice = {"index": 0, "message": message, "finish_reason": "stop"}
    return 200, head | {"object": "chat.completion", "choices": [choice], "usage": usage}


def _model(name: str) -> dict[str, Any]:
    return {"id": name, "object": "model", "created": 1_700_000_000, "owned_by": "skerry"}


def _events(head: dict[str, Any], draft: str, usage: dict[str, int] | None) -> Iterator[bytes]:
    """A draft word by word, then that it is done, then what it took where that was asked for."""
    head = head | {"object": "chat.completion.chunk"}
    words = draft.split(" ")
    for place, word in enumerate(words):
        said = {"content": word if place == len(words) - 1 else f"{word} "}
        delta = {"role": "assistant"} | said if place == 0 else said
        yield _event(head | {"choices": [{"index": 0, "delta": delta, "finish_reason": None}]})
    yield _event(head | {"choices": [{"index": 0, "delta": {}, "finish_reason": "stop"}]})
    if usage is not None:
        yield _event(head | {"choices": [], "usage": usage})
    yield b"data: [DONE]\n\n"


def _event(told: dict[str, Any]) -> bytes:
    return b"data: " + orjson.dumps(told) + b"\n\n"
