"""What is masked in texts that are kept for people to read: a team's own words, and what mostly is someone's own."""

from __future__ import annotations

import re
from collections.abc import Sequence

from tamarack.core.language_models.word_rules import MASK, Rules, WordRule

_MAIL = re.compile(r"(?<![\w.+-])[\w.+-]++@[\w-]{1,63}(?:\.[\w-]{1,63}){1,4}")
_NUMBER = re.compile(r"(?<!\d)\+?\d(?:[ ./-]?\d){6,30}(?!\d)")
"""Seven digits and more, with what stands between them: of phones, cards, accounts and bookings."""
_CREDENTIAL = re.compile(
    r"(?i)\b(?:bearer|basic)\s+[\w+/=.~-]{8,400}|\b[a-z]{2,6}[_-][A-Za-z0-9_-]{20,200}|\beyJ[\w-]{4,400}(?:\.[\w-]{1,800}){1,2}"
    r"|(?<=://)[^\s/@]{1,200}(?=@)"
)


class Masks:
    """Rules of masking. `usual` masks mail addresses, numbers of seven digits and more, and what looks like a
    credential."""

    __slots__ = ("_rules", "_usual")

    def __init__(self, words: Sequence[str] = (), usual: bool = True) -> None:
        rules = [WordRule(do="mask", where="prompts", words=one) for one in words]
        self._rules = Rules(rules) if rules else None
        self._usual = usual

    def masked(self, text: str) -> str:
        """A text without what is masked."""
        if self._usual:
            for pattern in (_CREDENTIAL, _MAIL, _NUMBER):
                text = pattern.sub(MASK, text)
        return self._rules.masked(text)[0] if self._rules is not None else text
