"""Rules over the words of prompts and answers: what is refused, masked, or ends an answer.

A rule is a line: `refuse in prompts: launch code`, `mask in prompts: #### ####`, `mask in answers: skipper *`,
`end in answers: internal only`. In its words `#` is any digit, `*` the rest of a word, a blank any blanks; letters are
the same large or small, and what is found is whole words. Time grows with the text alone.
"""

from __future__ import annotations

import re
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


def _pattern(words: str) -> str:
    before = r"(?<!\w)" if words[0].isalnum() or words[0] in "#_" else ""
    after = r"(?!\w)" if words[-1].isalnum() or words[-1] in "#_*" else ""
    return f"{before}{''.join(_parts(words))}{after}"


def _beginning(words: str) -> str:
    """A pattern of every beginning of the words that a text may end with."""
    made = ""
    for part in reversed(_parts(words)):
        made = f"(?:{part}{made})?" if made else f"(?:{part})?"
    before = r"(?<!\w)" if words[0].isalnum() or words[0] in "#_" else ""
    return f"{before}{made.removesuffix('?')}"


class Rules:
    """Some rules made ready: where the first of them is found, and where one may just be beginning."""

    __slots__ = ("_begins", "_found", "rules")

    def __init__(self, rules: list[WordRule]) -> None:
        self.rules = rules
        each = "|".join(f"(?P<r{place}>{_pattern(rule.words)})" for place, rule in enumerate(rules))
        self._found = re.compile(each, re.IGNORECASE)
        begins = "|".join(_beginning(rule.words) for rule in rules)
        self._begins = re.compile(rf"(?:{begins})\Z", re.IGNORECASE)

    def first(self, text: str, at: int = 0) -> tuple[int, int, WordRule] | None:
        """Where the first one is found, from a place on: its start, its end, and the rule."""
        found = self._found.search(text, at)
        if found is None or found.lastgroup is None:
            return None
        return found.start(), found.end(), self.rules[int(found.lastgroup[1:])]

    def may_begin(self, text: str, at: int = 0) -> int:
        """From where on the end of a text may be the beginning of what is looked for; its length for nowhere."""
        found = self._begins.search(text, at)
        return found.start() if found is not None else len(text)

    def masked(self, text: str) -> tuple[str, WordRule | None]:
        """A text with what is to be masked masked, up to what is refused or ends it: then that rule is told too."""
        made, at = [], 0
        while (found := self.first(text, at)) is not None:
            start, end, rule = found
            made.append(text[at:start])
            if rule.do != "mask":
                return "".join(made), rule
            made.append(MASK)
            at = max(end, start + 1)
        made.append(text[at:])
        return "".join(made), None
