"""The words of a question, with all taken off that does not change what is asked.

Two questions of the same wording are the same question: they differ in case, punctuation, spelling, politeness or in
words that are listed as the same. Order stays, so that "from A to B" and "from B to A" are two. In doubt they differ:
an answer to another question is worse than asking once more.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import NamedTuple
from unicodedata import normalize

LONGEST = 4_000
"""Characters of a question whose words are compared; a longer one is only the same as itself."""


def words_of(text: str) -> frozenset[str]:
    """The words of a text, as a set."""
    return frozenset(text.split())


_WORD = re.compile(r"(?:(?<!\w)-)?\d+(?:[.,:/-]\d+)*|[^\W\d_]+(?:'[^\W\d_]+)*|[%€£°+*/&@#]|[.!?,](?=\s)|[.!?]")
_THOUSANDS = re.compile(r"(?<=\d),(?=\d{3}\b)")
_LITERAL = re.compile(r"[^\w\s.,!?:'\"“”‘’%€£°+*/&@#–—-]|_|\n\s*\S|[-–—]\s+\d")
"""Signs of a text in which every sign may matter: code, lists, what is no plain sentence."""
_SPELT = re.compile(r"is(e|es|ed|ing|ation|ations)$")
_SHORT = {
    "can't": "can not", "cannot": "can not", "won't": "will not", "shan't": "shall not", "ain't": "is not",
    "let's": "let us", "what's": "what is", "where's": "where is", "when's": "when is", "who's": "who is",
    "how's": "how is", "that's": "that is", "there's": "there is", "it's": "it is", "i'm": "i am", "i'd": "i would",
    "i've": "i have", "we've": "we have", "you've": "you have", "they've": "they have", "i'll": "i will",
    "we'll": "we will", "we're": "we are", "you're": "you are", "they're": "they are",
}  # fmt: skip
_NUMBERS = {
    "zero": "0", "one": "1", "two": "2", "three": "3", "four": "4", "five": "5", "six": "6", "seven": "7",
    "eight": "8", "nine": "9", "ten": "10", "eleven": "11", "twelve": "12", "fifteen": "15", "twenty": "20",
}  # fmt: skip
_SAID_AS = (
    ("at what time", "when"), ("at which time", "when"), ("what time", "when"), ("due to", "because of"),
    ("in order to", "to"), ("is it possible to", "can i"), ("is it possible for me to", "can i"),
    ("am i able to", "can i"), ("may i", "can i"), ("how can i", "how do i"), ("how may i", "how do i"),
    ("where can i", "where do i"), ("where may i", "where do i"), ("when can i", "when do i"), ("how come", "why"),
    ("e mail", "email"), ("has been", "is"), ("have been", "are"),
)  # fmt: skip
_OPENINGS = (
    "please", "kindly", "hi", "hello", "hey", "good morning", "good afternoon", "good evening",
    "can you tell me", "could you tell me", "would you tell me", "will you tell me", "do you know", "tell me",
    "i want to know", "i would like to know", "i need to know", "i wonder", "i was wondering",
    "can you", "could you", "would you", "will you",
)  # fmt: skip
_CLOSINGS = ("please", "thanks", "thank you", "many thanks", "thanks a lot", "thank you very much")
_SILENT = frozenset(("a", "an", "the", "is", "are", "am", "do", "does", "that"))
"""Words that carry nothing once it is known what kind of question it is."""
_ENGLISH = words_of(
    "the does what when where why how which who of and with this can may should must please tell my your our"
)
_RATHER_ENGLISH = words_of("is are do i a an to on in at for it have need not be we you or that")
"""A text in English has one of the first, or two of these: of no other is anything taken off."""
_KINDS = frozenset(("who", "whom", "whose", "what", "which", "when", "where", "why", "how"))
_ASKING = frozenset(("is", "are", "am", "do", "does", "did", "has", "have", "had", "was", "were"))
_ENDS = frozenset((".", "!", "?", ","))


class Synonyms:
    """Words and phrases that a team says mean the same: of each group, the first stands for the others."""

    def __init__(self, groups: Sequence[Sequence[str]] = ()) -> None:
        pairs: dict[tuple[str, ...], tuple[str, ...]] = {}
        for group in groups:
            spelt = [tuple(_spelt(words)) for words in group]
            pairs |= {words: spelt[0] for words in spelt[1:] if words and spelt[0]}
        self._pairs = sorted(pairs.items(), key=lambda pair: -len(pair[0]))

    def put(self, words: list[str]) -> list[str]:
        """Words, with the first of each group in place of the others."""
        return _replaced(words, self._pairs) if self._pairs else words


NO_SYNONYMS = Synonyms()


class Wording(NamedTuple):
    """What a text asks."""

    kind: str
    """How it asks: `when`, `how` and so on, `asks` where yes or no would answer, `says` where it is no question, and
    `as it is` where only the same text asks the same."""
    words: tuple[str, ...]


def wording(text: str, synonyms: Synonyms = NO_SYNONYMS) -> Wording:
    """What a text asks, as words."""
    text = normalize("NFC", text.strip())
    if len(text) > LONGEST or _LITERAL.search(text) is not None:
        return Wording("as it is", (text,))
    words = _spelt(text)
    if not _ENGLISH.isdisjoint(words) or len(_RATHER_ENGLISH.intersection(words)) > 1:
        words = _replaced(words, _PHRASES)
        asks = words[-1] == "?"
        short = _without_ends(words)
        kind = _kind(short)
        if kind == "says" and asks and short[:1] == words[:1]:
            kind = "asks"  # told with a question mark, and nothing else asked
        found = [word for place, word in enumerate(short) if word not in _SILENT or _is_name(short, place)]
        return Wording(kind, tuple(synonyms.put(found)))
    return Wording("as it is", tuple(words)) if words else Wording("as it is", (text,))


def _spelt(text: str) -> list[str]:
    """The words of a text, each in one spelling. What is in capitals among small letters stays so: US is not us."""
    capitals = text.upper() != text
    found: list[str] = []
    for word in _WORD.findall(_THOUSANDS.sub("", text.replace("’", "'"))):
        if capitals and len(word) > 1 and word.isupper():
            found.append(word)
            continue
        for part in _apart(word.lower()):
            found.append(_NUMBERS.get(part) or (_SPELT.sub(r"iz\1", part) if len(part) > 6 else part))
    return found


def _apart(word: str) -> list[str]:
    known = _SHORT.get(word)
    if known is not None:
        return known.split()
    if word.endswith("n't"):
        return [word[:-3], "not"]
    return [word]


def _replaced(words: list[str], pairs: Sequence[tuple[tuple[str, ...], tuple[str, ...]]]) -> list[str]:
    """Words with phrases said as others; the first of the list goes before the others."""
    found: list[str] = []
    place = 0
    while place < len(words):
        for phrase, instead in pairs:
            if words[place] == phrase[0] and tuple(words[place : place + len(phrase)]) == phrase:
                found.extend(instead)
                place += len(phrase)
                break
        else:
            found.append(words[place])
            place += 1
    return found


def _without_ends(words: list[str]) -> list[str]:
    """Words without politeness before and after, and without the signs that end them."""
    first, last, moved = 0, len(words), True
    while moved:
        moved = False
        while last > first and words[last - 1] in _ENDS:
            last, moved = last - 1, True
        while first < last and words[first] in _ENDS:
            first, moved = first + 1, True
        for phrase in _OPENED_BY:
            if last - first > len(phrase) and tuple(words[first : first + len(phrase)]) == phrase:
                first, moved = first + len(phrase), True
                break
        for phrase in _CLOSED_BY:
            if last - first > len(phrase) and tuple(words[last - len(phrase) : last]) == phrase:
                last, moved = last - len(phrase), True
                break
    return words[first:last]


def _kind(words: Sequence[str]) -> str:
    first = words[0] if words else ""
    return first if first in _KINDS else "asks" if first in _ASKING else "says"


def _is_name(words: Sequence[str], place: int) -> bool:
    """Whether an `a` is a name, like that of a class or a deck: nothing follows that it could be the article of."""
    following = words[place + 1] if place + 1 < len(words) else ""
    return words[place] == "a" and not (following.isalpha() and following not in ("to", "and", "or", "from", "for"))


def _ready(phrases: Sequence[str]) -> list[tuple[str, ...]]:
    return sorted((tuple(_spelt(phrase)) for phrase in phrases), key=len, reverse=True)


_PHRASES: list[tuple[tuple[str, ...], tuple[str, ...]]] = sorted(
    ((tuple(_spelt(said)), tuple(_spelt(instead))) for said, instead in _SAID_AS), key=lambda pair: -len(pair[0])
)
_OPENED_BY = _ready(_OPENINGS)
_CLOSED_BY = _ready(_CLOSINGS)
