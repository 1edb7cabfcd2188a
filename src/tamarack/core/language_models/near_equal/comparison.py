"""Trying how prompts would be compared: which of some prompts would have been one, at each nearness."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple

from tamarack.core.language_models.near_equal.question import Comparing, Embed, Question, why_not_the_same
from tamarack.core.language_models.near_equal.wording import wording

MOST_PROMPTS = 60
STEPS = tuple(step / 100 for step in range(60, 101, 5))
"""The nearnesses that are tried, beside the policy's own."""


class Pair(NamedTuple):
    """Two prompts, by their place among those that were given, the earlier first."""

    first: int
    second: int
    same_words: bool
    alike: float | None
    """How near their meanings are; None where that is not compared."""
    why_not: str
    """What the guard finds between them; empty for nothing."""

    def is_one(self, nearest: float) -> bool:
        """Whether the second would be given the first's answer; by words alone where `nearest` is 0."""
        if self.same_words:
            return True
        return bool(nearest) and self.alike is not None and self.alike >= nearest and not self.why_not


class Step(NamedTuple):
    """What would come of some prompts at one nearness."""

    nearest: float
    asked: int
    """How many would ask the model."""
    given: int
    """How many would be given the answer to an earlier one."""


class Comparison(NamedTuple):
    """Some prompts, compared."""

    texts: Sequence[str]
    pairs: Sequence[Pair]
    """Each pair that is near enough to be looked at, the nearest first."""
    answered_by: Sequence[int | None]
    """For each prompt the one whose answer it would be given, as the policy is set; None where it asks the model."""
    steps: Sequence[Step]

    @property
    def asked(self) -> int:
        """How many would ask the model, as the policy is set."""
        return sum(one is None for one in self.answered_by)


def compare(texts: Sequence[str], how: Comparing, embed: Embed | None = None) -> Comparison:
    """Compare some prompts as a node would, in the order in which they come, all else about them being equal."""
    questions = [Question(text, b"", wording(text, how.synonyms), embed) for text in texts]
    pairs = []
    for second, later in enumerate(questions):
        for first, earlier in enumerate(questions[:second]):
            pair = _pair(first, second, earlier, later, embed)
            if pair is not None:
                pairs.append(pair)
    pairs.sort(key=lambda pair: (-(pair.alike or 0), pair.first, pair.second))
    nearnesses = sorted({*STEPS, how.nearest} - {0.0}) if embed is not None else []
    steps = [_step(nearest, len(texts), pairs) for nearest in nearnesses]
    return Comparison(texts, pairs, _answers(how.nearest, len(texts), pairs), steps)


def _pair(first: int, second: int, earlier: Question, later: Question, embed: Embed | None) -> Pair | None:
    same = earlier.digest == later.digest
    mine, its = (earlier.meaning, later.meaning) if embed is not None else (None, None)
    alike = _near(mine, its)
    if not same and (alike is None or alike < STEPS[0]):
        return None
    why = "" if same or embed is None else why_not_the_same(later, earlier, embed)
    return Pair(first, second, same, alike, why)


def _near(mine: Any, its: Any) -> float | None:
    return float(mine @ its) if mine is not None and its is not None else None


def _answers(nearest: float, many: int, pairs: Sequence[Pair]) -> list[int | None]:
    """Whose answer each prompt would be given: the same words first, then the nearest of those that asked the model."""
    answers: list[int | None] = [None] * many
    by_second: dict[int, list[Pair]] = {}
    for pair in pairs:
        by_second.setdefault(pair.second, []).append(pair)
    for second in range(many):
        mine = sorted(by_second.get(second, ()), key=_best)
        answers[second] = next(
            (pair.first for pair in mine if answers[pair.first] is None and pair.is_one(nearest)), None
        )
    return answers


def _best(pair: Pair) -> tuple[bool, float]:
    return not pair.same_words, -(pair.alike or 0)


def _step(nearest: float, many: int, pairs: Sequence[Pair]) -> Step:
    asked = sum(one is None for one in _answers(nearest, many, pairs))
    return Step(nearest, asked, many - asked)
