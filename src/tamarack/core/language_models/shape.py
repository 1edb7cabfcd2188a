"""The shape of calls to a language model: where in its JSON the model, the prompt and the tokens stand.

Places are JSON Pointers (RFC 6901). Without others they are those of chat completions, which most model servers speak.
"""

from __future__ import annotations

from typing import NamedTuple

LARGEST_PROMPT = 4_000_000
"""Bytes of a request that is read as a prompt; a longer one is refused."""


class Shape(NamedTuple):
    """Where things stand. An empty place stands nowhere."""

    model: str = "/model"
    prompts: tuple[str, ...] = ("/messages", "/prompt", "/input", "/tools")
    """All texts below these places are the prompt."""
    most: tuple[str, ...] = ("/max_completion_tokens", "/max_tokens")
    """How many completion tokens the caller asks for at most; the first that is there."""
    answers: str = "/n"
    """How many answers it asks for."""
    streams: str = "/stream"
    """True where the answer is to come piece by piece."""
    asks_usage: bool = True
    """Whether a stream's usage is asked for by `stream_options` where the caller did not."""
    prompt_tokens: str = "/usage/prompt_tokens"
    completion_tokens: str = "/usage/completion_tokens"
    cached_tokens: str = "/usage/prompt_tokens_details/cached_tokens"
    served: str = "/model"
    """The model that answered."""
    said: tuple[str, ...] = ("/choices/0/message/content", "/choices/0/delta/content", "/choices/0/text")
    """The texts of an answer, whole or of one piece: counted where no usage is told."""


CHAT = Shape()
