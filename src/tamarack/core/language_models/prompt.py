"""A call to a language model as it was read: its model, its prompt's tokens, and what it used in the end."""

from __future__ import annotations

from math import ceil
from typing import Any

from tamarack.core.json_pointer import at_pointer
from tamarack.core.language_models.estimating import Key, Learned, estimated_prompt
from tamarack.core.language_models.shape import Shape

LONGEST_MODEL = 120
"""Characters of a model's name; longer ones are cut where they are recorded and counted by."""
MOST_ANSWERS = 128
MOST_TOKENS = 1_000_000_000


def whole_number(value: Any, most: int = MOST_TOKENS) -> int:
    """A number as a document says it: 0 where it is no whole number above 0."""
    if isinstance(value, bool) or not isinstance(value, int):
        return 0
    return min(most, max(0, value))


class Prompt:
    """What a call asks of a language model, and what its answer told."""

    __slots__ = (
        "_capacity",
        "_taken",
        "answers",
        "body",
        "bound",
        "by_rule",
        "cached_tokens",
        "completion",
        "document",
        "first_us",
        "key",
        "known",
        "logged",
        "model",
        "renamed",
        "saved_tokens",
        "saved_us",
        "served",
        "settled",
        "shape",
        "streams",
        "tells_usage",
        "tokens",
        "usage_added",
    )

    def __init__(
        self, shape: Shape, document: Any, learned: Learned, about: Key, size: int = 0, body: bytes | None = None
    ) -> None:
        self.shape = shape
        self.document = document
        """The request's body; None where it is no JSON."""
        self.body = body
        """The text of that document: what has another text was changed meanwhile, and is read anew."""
        name = at_pointer(document, shape.model) if shape.model else None
        self.model = name[:LONGEST_MODEL] if isinstance(name, str) else ""
        """The model that is asked for."""
        self.key: Key = (*about, self.model)
        facts = learned.of(self.key)
        if document is None:
            self.by_rule = size / 4
        else:
            parts = [at_pointer(document, place) for place in shape.prompts]
            self.by_rule = estimated_prompt([part for part in parts if part is not None])
        self.tokens = ceil(self.by_rule * facts.ratio)
        """The prompt's tokens, as estimated."""
        bounds = (whole_number(at_pointer(document, place)) for place in shape.most)
        self.bound = next((bound for bound in bounds if bound), 0)
        """The most tokens of an answer that the caller asks for; 0 where it sets no bound."""
        self.answers = max(1, whole_number(at_pointer(document, shape.answers), MOST_ANSWERS)) if shape.answers else 1
        self.completion = (self.bound or facts.completion) * self.answers
        """The completion's tokens, as the caller bounds them, else as answers of the model mostly have."""
        self.streams = bool(shape.streams) and at_pointer(document, shape.streams) is True
        options = document.get("stream_options") if isinstance(document, dict) else None
        self.known = False
        """Whether the model is one that is offered; records tell no others, for there is no end of names."""
        self.tells_usage = isinstance(options, dict) and options.get("include_usage") is True
        """Whether the caller wants to be told what a stream took."""
        self.usage_added = False
        """Whether the gateway asked for that in its place."""
        self.logged: Any = None
        """What is kept of it for staff to read, where a policy says so: a `prompt_log.LoggedPrompt`."""
        self.served = ""
        """The model that answered, as the answer says."""
        self.cached_tokens = 0
        """Tokens of the prompt that the model had at hand."""
        self.first_us = 0
        """From when the target was asked until the first piece of its answer came."""
        self.settled = False
        """Whether its tokens are known, told or counted."""
        self.saved_tokens = 0
        """What it would have taken, had its answer not been kept."""
        self.saved_us = 0
        self.renamed = False
        """Whether its body asks for the model by a target's name."""
        self._capacity: Any = None
        self._taken = 0

    def reserves(self, unit: str) -> int:
        """What it reserves of a limit that counts in a unit."""
        if unit == "tokens":
            return self.tokens + self.completion
        return self.tokens if unit == "prompt tokens" else self.completion

    def goes_to(self, capacity: Any, now: float) -> None:
        """It takes of what is reserved at a target (a `core.balancing.capacity.Capacity`), and of no other's."""
        self.leaves(0, now)
        self._capacity, self._taken = capacity, self.reserves("tokens")
        capacity.sent(now, self._taken)

    def leaves(self, used: int, came: float) -> None:
        """It has ended there, and used so many tokens."""
        if self._capacity is not None:
            self._capacity.settled(came, used - self._taken)
            self._capacity = None

    def at_least(self, unit: str) -> int:
        """What it asks for itself: without what is only guessed of its answer."""
        if unit == "prompt tokens":
            return self.tokens
        bound = self.bound * self.answers
        return self.tokens + bound if unit == "tokens" else bound


def asking_usage(document: dict[str, Any]) -> dict[str, Any]:
    """A request that also asks what its stream takes."""
    options = document.get("stream_options")
    wanted = {"include_usage": True}
    return document | {"stream_options": options | wanted if isinstance(options, dict) else wanted}
