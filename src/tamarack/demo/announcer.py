"""The stand-in that drafts notices: it answers like a language model, in the common form of chat completions.

There is no model in it: it turns what it is told into a polite notice, and counts words as tokens.
"""

from typing import Any

import orjson

_OPENINGS = ("Dear passengers:", "May we have your attention, please.", "A notice from the quay:")
_ENDINGS = (
    "We are sorry for the wait, and thank you for your patience.",
    "Please listen for further notices.",
    "Tickets stay valid for the next departure.",
)


def tokens(text: str) -> int:
    """How many tokens a text counts as: about four for three words."""
    return -(-len(text.split()) * 4 // 3)


def announcer(method: str, path: list[str], query: dict[str, str], body: bytes) -> tuple[int, Any]:
    """Draft a notice from the last message of a user."""
    if (method, path) != ("POST", ["chat", "completions"]):
        return 404, {"title": "Not found", "detail": "there is no such thing here"}
    try:
        messages = [(str(one["role"]), str(one["content"])) for one in orjson.loads(body)["messages"]]
        said = next(content for role, content in reversed(messages) if role == "user")
    except (ValueError, KeyError, TypeError, StopIteration):
        return 400, {"title": "Nothing to draft", "detail": "messages is a list with at least one of a user"}
    place = len(said)
    draft = f"{_OPENINGS[place % 3]} {said.strip().rstrip('.')}. {_ENDINGS[place // 3 % 3]}"
    prompt, completion = sum(tokens(content) for _, content in messages), tokens(draft)
    return 200, {
        "object": "chat.completion",
        "choices": [{"index": 0, "message": {"role": "assistant", "content": draft}, "finish_reason": "stop"}],
        "usage": {"prompt_tokens": prompt, "completion_tokens": completion, "total_tokens": prompt + completion},
    }
