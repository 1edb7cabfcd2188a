"""Rules over the words of prompts and answers: what is refused, masked, or ends an answer.

A rule is a line: `refuse in prompts: launch code`, `mask in prompts: #### ####`, `mask in answers: skipper *`,
`end in answers: internal only`. In its words `#` is any digit, `*` the rest of a word, a blank any blanks; letters are
the same large or small, and what is found is whole words. Time grows with the text alone.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from heapq import heapify, heappop, heappush
from typing import Annotated, Any, Literal

from pydantic import Field, PlainSerializer, model_validator

from tamarack.core.types import Frozen, OneLine

Do = Literal["refuse", "mask", "end"]
_FORM = re.compile(r"(refuse|mask|end)\s+in\s+(prompts|answers)\s*:\s*(.+)", re.DOTALL)
LONGEST_WORDS = 100
MOST_RULES = 60
MASK = "•••"
_REST = r"\w{0,40}"
_BLANKS = r"\s{1,4}"
_NO_DIGITS = bytes(byte for byte in range(256) if not 48 <= byte <= 57)


class WordRule(Frozen):
    """One line: what is done where its words are found."""

    do: Do
    where: Literal["prompts", "answers"]
    words: Annotated[str, Field(min_length=2, max_length=LONGEST_WORDS), OneLine]

    @model_validator(mode="before")
    @classmethod
    def _from_text(cls, value: Any) -> Any:
        if not isinstance(value, str):
            return value
        found = _FORM.fullmatch(value.strip())
        if found is None:
            raise ValueError(
                f"{value[:120]!r} is no rule; write it like 'refuse in prompts: launch code', 'mask in prompts: ####"
                " ####', 'mask in answers: skipper *' or 'end in answers: internal only'"
            )
        return {"do": found[1], "where": found[2], "words": " ".join(found[3].split())}

    @model_validator(mode="after")
    def _makes_sense(self) -> WordRule:
        wrong = {("refuse", "answers"): "end", ("end", "prompts"): "refuse"}.get((self.do, self.where))
        if wrong is not None:
            raise ValueError(f"{self.where} cannot be told to {self.do}; write {wrong} in {self.where}")
        if self.words.count("*") > 1:
            raise ValueError(f"{self.words!r} has more than one *; keep one")
        if not re.search(r"[^\W_]|#", self.words):
            raise ValueError(f"{self.words!r} has no letter and no digit, so it would be found everywhere")
        return self

    def __str__(self) -> str:
        return f"{self.do} in {self.where}: {self.words}"


RuleLine = Annotated[WordRule, PlainSerializer(str, return_type=str)]


def _parts(words: str) -> list[str]:
    """The words as pieces of a pattern, one for each character."""
    named = {"#": "[0-9]", "*": _REST, " ": _BLANKS}
    return [named.get(one, re.escape(one)) for one in words]


def _beginning(words: str) -> str:
    """A pattern of every beginning of the words that a text may end with."""
    made = ""
    for part in reversed(_parts(words)):
        made = f"(?:{part}{made})?" if made else f"(?:{part})?"
    before = r"(?<!\w)" if words[0].isalnum() or words[0] in "#_" else ""
    return f"{before}{made.removesuffix('?')}"


class _Ready:
    """One rule, ready to be looked for."""

    __slots__ = ("after", "before", "digits", "literal", "pattern", "place", "rule")

    def __init__(self, place: int, rule: WordRule) -> None:
        words = rule.words
        self.place = place
        self.rule = rule
        self.before = words[0].isalnum() or words[0] in "#_"
        """Whether what is found has to begin a word, and to end one (`after`). Looked at by hand: said in the pattern,
        it would keep the search from leaping to where the words begin."""
        self.after = words[-1].isalnum() or words[-1] in "#_*"
        self.pattern = re.compile("".join(_parts(words)), re.IGNORECASE)
        self.literal = max(re.split(r"[#*\s]", words), key=len).lower()
        """A part that a plain text has to hold; empty where there is none."""
        self.digits = words.count("#")

    def find(self, text: str, at: int) -> tuple[int, int] | None:
        """Where it is found first, from a place on."""
        found = self.pattern.search(text, at)
        while found is not None:
            start, end = found.span()
            if not (self.before and start and _in_a_word(text[start - 1])) and not (
                self.after and end < len(text) and _in_a_word(text[end])
            ):
                return start, end
            found = self.pattern.search(text, start + 1)
        return None


def _in_a_word(character: str) -> bool:
    return character.isalnum() or character == "_"


class Rules:
    """Some rules made ready: where they are found, and where one may just be beginning."""

    __slots__ = ("_begins", "_ready")

    def __init__(self, rules: list[WordRule]) -> None:
        self._ready = [_Ready(place, rule) for place, rule in enumerate(rules)]
        begins = "|".join(_beginning(rule.words) for rule in rules)
        self._begins = re.compile(rf"(?:{begins})\Z", re.IGNORECASE)

    def finds(self, text: str, at: int = 0) -> Iterator[tuple[int, int, WordRule]]:
        """Where they are found, one behind the other, from a place on: start, end, and the rule. Each rule goes once
        through the text, however much is found."""
        ahead: list[tuple[int, int, int, _Ready]] = []
        for one in self._that_may_be_in(text):
            found = one.find(text, at)
            if found is not None:
                ahead.append((found[0], one.place, found[1], one))
        heapify(ahead)
        while ahead:
            start, _, end, one = heappop(ahead)
            if start >= at:
                yield start, end, one.rule
                at = max(end, start + 1)
            found = one.find(text, at)
            if found is not None:
                heappush(ahead, (found[0], one.place, found[1], one))

    def first(self, text: str, at: int = 0) -> tuple[int, int, WordRule] | None:
        """The first of them."""
        return next(self.finds(text, at), None)

    def _that_may_be_in(self, text: str) -> list[_Ready]:
        """The rules that are worth looking for: by a quick look, exact for plain text, whose letters have no other
        forms than large and small."""
        if not text.isascii():
            return self._ready
        small = text.lower()
        digits = -1
        found = []
        for one in self._ready:
            if one.literal:
                if one.literal not in small:
                    continue
            elif digits < 0:
                digits = len(text.encode().translate(None, _NO_DIGITS))
            if not one.literal and one.digits > digits:
                continue
            found.append(one)
        return found

    def may_begin(self, text: str, at: int = 0) -> int:
        """From where on the end of a text may be the beginning of what is looked for; its length for nowhere."""
        found = self._begins.search(text, at)
        return found.start() if found is not None else len(text)

    def masked(self, text: str) -> tuple[str, WordRule | None]:
        """A text with what is to be masked masked, up to what is refused or ends it: then that rule is told too."""
        made, at = [], 0
        for start, end, rule in self.finds(text):
            made.append(text[at:start])
            if rule.do != "mask":
                return "".join(made), rule
            made.append(MASK)
            at = max(end, start + 1)
        made.append(text[at:])
        return "".join(made), None
