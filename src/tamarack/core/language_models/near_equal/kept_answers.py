"""Answers kept for one prompt and given to another that asks the same, on a call's way.

The response cache's own rules hold (`core.carrying.caching`); what is different is the key, which holds what is asked
in place of the address alone, and that a kept answer may be found by the meaning of its question.
"""

from __future__ import annotations

from tamarack.core.caching.kept import Kept, split_fields
from tamarack.core.caching.memory import MemoryCache
from tamarack.core.carrying.call import Call, Watching
from tamarack.core.carrying.forwarding import Filter
from tamarack.core.language_models.near_equal.question import Comparing, Embed, Question, question_of, why_not_the_same


class NearPrompts:
    """How an operation's prompts are compared. `embed` finds out the meaning of a text."""

    __slots__ = ("_embed", "how")

    def __init__(self, how: Comparing, embed: Embed | None = None) -> None:
        self.how = how
        self._embed = embed

    def question(self, call: Call, scope: bytes) -> Question | str:
        """What a call asks, among those of the same scope; or why it has nothing to do with kept answers."""
        prompt = call.prompt
        if prompt is None:
            return "it asks no model"
        found = question_of(prompt, scope, self.how, self._embed)
        return f"not compared with others: it {found}" if isinstance(found, str) else found

    def nearest(self, memory: MemoryCache, question: Question, policy: str, now: float) -> tuple[Kept, float] | None:
        """The answer kept for the question nearest by its meaning, and how near that is. None where no question is near
        enough, or the guard finds a difference."""
        embed = self._embed
        if not self.how.nearest or embed is None:
            return None

        def fits(kept: Kept, alike: float) -> bool:
            asked = kept.question
            if asked is None or kept.policy != policy or now >= kept.fresh_until:
                return False
            return not why_not_the_same(question, asked, embed)

        return memory.nearest(question, self.how.nearest, fits)


def about(question: Question) -> bytes:
    """What a key says of a question. Keys are shown to people, so the question itself is not in it."""
    return b"prompt: " + question.digest


def told_as_kept(call: Call, question: Question, kept: Kept, alike: float) -> bytes:
    """Note on a call that a kept answer is given to it. Returns what a field says of how like the prompts are."""
    prompt = call.prompt
    prompt.known = True  # its answer was kept, so the model is one that is offered
    prompt.settled = True
    prompt.saved_tokens, prompt.saved_us = kept.tokens, kept.took_us
    if prompt.logged is not None and prompt.logged.takes_answer:
        prompt.logged.begin(prompt, split_fields(kept.fields))
        prompt.logged.piece(kept.body)
        prompt.logged.end()
    asked = kept.question
    if alike:
        call.note = f"given for a near-equal prompt, {alike:.2f} alike"
        return b"; detail=similarity-%.2f" % alike
    if asked is not None and asked.text != question.text:
        call.note = "given for a prompt of the same words"
        return b"; detail=same-words"
    return b""


class _Behind:
    """A `Filter` whose filtered pieces are kept."""

    __slots__ = ("_filter", "_keeping")

    def __init__(self, filter: Filter, keeping: Watching) -> None:
        self._filter = filter
        self._keeping = keeping

    def piece(self, data: bytes) -> bytes:
        """See `Filter.piece`."""
        return self._kept(self._filter.piece(data))

    def end(self) -> bytes:
        """See `Filter.end`."""
        return self._kept(self._filter.end())

    def _kept(self, data: bytes) -> bytes:
        if data:
            self._keeping.piece(data)
        return data


class _Ending:
    """A `Watching` that passes on the end alone."""

    __slots__ = ("end",)

    def __init__(self, keeping: Watching) -> None:
        self.end = keeping.end

    def piece(self, data: bytes) -> None:
        """See `Watching.piece`."""


def kept_behind(filter: Filter, keeping: Watching) -> tuple[Filter, Watching]:
    """What keeps an answer as it was filtered: in the filter's place, and what hears how the answer ended."""
    return _Behind(filter, keeping), _Ending(keeping)
