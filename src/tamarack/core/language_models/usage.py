"""What an answer of a language model took: as it tells, else counted from its texts as they pass."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from math import ceil
from typing import Any

from tamarack.core.carrying.call import Call
from tamarack.core.http.answer_values import Documents, Events, documents_of
from tamarack.core.http.fields import Header
from tamarack.core.json_pointer import at_pointer
from tamarack.core.language_models.estimating import Learned, estimated
from tamarack.core.language_models.prompt import LONGEST_MODEL, Prompt, whole_number


class Usage:
    """A `core.carrying.call.Watching` that finds out what a call took. `clock` tells nanoseconds."""

    __slots__ = ("_call", "_clock", "_documents", "_learned", "_prompt", "_said", "_told")

    def __init__(
        self,
        call: Call,
        prompt: Prompt,
        headers: Sequence[Header],
        learned: Learned,
        clock: Callable[[], int] | None,
    ) -> None:
        self._call = call
        self._prompt = prompt
        self._learned = learned
        self._clock = clock
        self._said = 0.0
        self._told = False
        self._documents: Documents | Events = documents_of(headers, self._read)

    def piece(self, data: bytes) -> None:
        """See `Watching.piece`."""
        prompt = self._prompt
        if not prompt.first_us and self._clock is not None:
            prompt.first_us = max(1, (self._clock() - self._call.asked_at) // 1000)
        self._documents.piece(data)

    def _read(self, document: Any) -> None:
        call, prompt, shape = self._call, self._prompt, self._prompt.shape
        if not prompt.served and shape.served:
            name = at_pointer(document, shape.served)
            prompt.served = name[:LONGEST_MODEL] if isinstance(name, str) else ""
        asked, said = (
            whole_number(at_pointer(document, place)) if place else 0
            for place in (shape.prompt_tokens, shape.completion_tokens)
        )
        if asked or said:  # of a stream, the last event that tells them counts
            call.prompt_tokens, call.completion_tokens = asked or call.prompt_tokens, said or call.completion_tokens
            prompt.cached_tokens = whole_number(at_pointer(document, shape.cached_tokens)) if shape.cached_tokens else 0
            self._told = True
        elif not self._told:
            for place in shape.said:
                text = at_pointer(document, place)
                if isinstance(text, str):
                    self._said += estimated(text)
                    break

    def end(self, complete: bool) -> None:
        """See `Watching.end`."""
        self._documents.end(complete)
        call, prompt = self._call, self._prompt
        prompt.settled = True
        if self._told:
            self._learned.note(prompt.key, prompt.by_rule, call.prompt_tokens, call.completion_tokens // prompt.answers)
        else:
            call.prompt_tokens = prompt.tokens
            call.completion_tokens = ceil(self._said) * prompt.answers


def usage_of(
    call: Call, status: int, headers: Sequence[Header], learned: Learned, clock: Callable[[], int] | None
) -> Usage | None:
    """What watches an answer; None where it is none of a model's, which takes no tokens."""
    prompt = call.prompt
    if prompt is None:
        return None
    if status >= 300:
        prompt.settled = True
        return None
    return Usage(call, prompt, headers, learned, clock)
