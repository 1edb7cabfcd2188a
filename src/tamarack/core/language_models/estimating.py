"""Estimates of tokens, made before a model was asked.

The rule: four characters of plain text are a token, and every further byte that a character takes in UTF-8 is two
fifths of one, so that a Chinese character is about one. How far that is off for a model is learned from what its
answers tell, and so is how long its answers are where a caller sets no bound.
"""

from __future__ import annotations

from collections import OrderedDict, deque
from collections.abc import Iterator
from statistics import median
from typing import Any, NamedTuple

FIRST_GUESS = 256
"""Completion tokens of an answer, before any was seen."""
ENOUGH = 5
"""Answers after which their median is taken."""
MOST_REMEMBERED = 31
MOST_MODELS = 1_000
PER_MESSAGE = 3
"""Tokens that surround a message."""
OF_DATA = 800
"""Tokens that a picture or a recording counts as, written as a `data:` address."""
_MOST_DEPTH = 32
_SLOWNESS = 0.9
"""How much of what was learned stays with each answer."""
_FURTHEST = 4.0

Key = tuple[str, ...]


def estimated(text: str) -> float:
    """The tokens of a text, by the rule."""
    characters = len(text)
    if text.isascii():
        return characters / 4
    return characters / 4 + (len(text.encode("utf-8", "surrogatepass")) - characters) * 0.4


def texts_in(value: Any, depth: int = 0) -> Iterator[str]:
    """Every text in a part of a document. What is nested deeper than anyone writes by hand is not looked into."""
    if isinstance(value, str):
        yield value
    elif depth < _MOST_DEPTH:
        if isinstance(value, dict):
            for one in value.values():
                yield from texts_in(one, depth + 1)
        elif isinstance(value, list):
            for one in value:
                yield from texts_in(one, depth + 1)


def estimated_prompt(parts: list[Any]) -> float:
    """The tokens of the parts of a prompt, by the rule."""
    found = 0.0
    for part in parts:
        found += PER_MESSAGE * (len(part) if isinstance(part, list) else 1)
        for text in texts_in(part):
            found += OF_DATA if text.startswith("data:") else estimated(text)
    return found


class _Model:
    """What was learned of one model."""

    __slots__ = ("completion", "completions", "ratio")

    def __init__(self) -> None:
        self.ratio = 1.0
        self.completions: deque[int] = deque(maxlen=MOST_REMEMBERED)
        self.completion = FIRST_GUESS


class Learned:
    """What answers told of models: by how much the rule is off, and how long answers are. Bounded in number."""

    def __init__(self) -> None:
        self._models: OrderedDict[Key, _Model] = OrderedDict()

    def of(self, key: Key) -> Facts:
        """What is known of a model; what nothing is known of is as the rule says."""
        model = self._models.get(key)
        return Facts(1.0, FIRST_GUESS) if model is None else Facts(model.ratio, model.completion)

    def note(self, key: Key, by_rule: float, prompt: int, completion: int) -> None:
        """An answer told what it took."""
        model = self._models.get(key)
        if model is None:
            model = self._models[key] = _Model()
            if len(self._models) > MOST_MODELS:
                self._models.popitem(last=False)
        self._models.move_to_end(key)
        if by_rule > 0 and prompt > 0:
            off = min(_FURTHEST, max(1 / _FURTHEST, prompt / by_rule))
            model.ratio = model.ratio * _SLOWNESS + off * (1 - _SLOWNESS)
        model.completions.append(completion)
        if len(model.completions) >= ENOUGH:
            model.completion = int(median(model.completions))


class Facts(NamedTuple):
    """What is known of a model: what estimates by the rule are multiplied by, and how many tokens answers have."""

    ratio: float
    completion: int
