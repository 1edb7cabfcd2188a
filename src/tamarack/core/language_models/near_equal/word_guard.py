"""The guard of meanings: what two questions whose meanings are near must still have in common, word by word.

Nearness alone takes "euro to dollar" for "dollar to euro", and the first ferry for the last. So numbers, names, what
denies, what counts and what leads from and to must be the same on both sides, in the same order; and each other word
that only one side has needs one on the other side that is nearly its own.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

from tamarack.core.language_models.near_equal.wording import Wording, words_of

LEAST_ALIKE = 0.6
"""How near two words are that may stand for each other, as a cosine."""
MOST_OTHER = 3
"""Words that may differ, on each side."""

_EXACT = words_of(
    "not no never without nor neither none nothing nobody except unless hardly barely only just all some every"
    " any each most few many much both half more less fewer least first last next previous second third once"
    " twice again still yet already to from before after above below over under until since between into off out"
    " in on up down through across against within during by per than as if or and but because was were did had"
    " will would must should could might shall can i me my we us our you your he him his she her it its they them"
    " their who whom whose today tomorrow yesterday tonight now then monday tuesday wednesday thursday friday"
    " saturday sunday january february march april may june july august september october november december"
    " morning noon afternoon evening night midnight minute hour day week month year north south east west"
    " northern southern eastern western inbound outbound left right return single open opened close closed allow"
    " allowed forbid forbidden early late arrive arrival leave departure enter exit begin end buy sell increase"
    " decrease raise lower cheapest dearest short long brief largest smallest larger smaller maximum minimum best"
    " worst good bad hot cold true false valid invalid possible impossible euro dollar pound english french"
    " german spanish italian dutch red green blue black white yellow"
)
"""Words that stand for no other, however near a model puts them."""
_LIGHT = words_of("saying please there take for of at with about get have has been need want a this these")
"""Words that one side may have more."""
_AS = {
    "start": "begin", "finish": "end", "depart": "leave", "delayed": "late", "permitted": "allowed",
    "prohibited": "forbidden", "shut": "closed", "which": "what", "ship": "vessel", "boat": "vessel", "write": "draft",
}  # fmt: skip
"""Words that are said as others."""

_ENDINGS = (("ies", ("y",)), ("ing", ("", "e")), ("es", ("", "e")), ("s", ("",)))
_KNOWN = _EXACT | _LIGHT | _AS.keys() | frozenset(_AS.values())

Alike = Callable[[str, str], float]
"""How near two words are, from -1 to 1."""


def difference(one: Wording, other: Wording, names: frozenset[str], alike: Alike) -> str:
    """Why two questions are not the same, in words; empty where they are. `names` are the names in both texts."""
    if one == other:
        return ""
    one, other = _plain(one), _plain(other)
    if one.kind != other.kind:
        return f"they ask in another way: {_asked(one)} and {_asked(other)}"
    if one.kind == "as it is":
        return "each sign of them may matter"
    for what, belongs in (
        ("numbers", _is_number),
        ("words that may not change", lambda word: word in _EXACT),
        ("names", lambda word: word in names),
    ):
        mine, its = ([word for word in side.words if belongs(word)] for side in (one, other))
        if mine != its:
            return f"other {what}: {_listed(mine, its)}"
    common = set(one.words) & set(other.words)
    if [word for word in one.words if word in common] != [word for word in other.words if word in common]:
        return "the same words in another order"
    mine, its = ([word for word in side.words if word not in common] for side in (one, other))
    if max(len(mine), len(its)) > MOST_OTHER:
        return f"too many other words: {_listed(mine, its)}"
    left = list(its)
    for word in mine:
        open_ = left if one.kind != "says" else [candidate for candidate in left if not _many_of(word, candidate)]
        nearest = max(open_, key=lambda candidate: alike(word, candidate), default="")
        if nearest and alike(word, nearest) >= LEAST_ALIKE:
            left.remove(nearest)
        elif word not in _LIGHT:
            return f"nothing stands for {word!r}"
    heavy = [word for word in left if word not in _LIGHT]
    return f"nothing stands for {heavy[0]!r}" if heavy else ""


def _plain(side: Wording) -> Wording:
    """A wording with each word in its plain form: "leaves", "leaving" and "departs" as "leave"."""
    if side.kind == "as it is":
        return side
    return Wording(_AS.get(side.kind, side.kind), tuple(map(_plain_word, side.words)))


def _plain_word(word: str) -> str:
    if not word.isalpha() or not word.islower():
        return word
    for ending, instead in _ENDINGS:
        stem = word.removesuffix(ending)
        if stem != word and len(stem) > 2:
            return next((_AS.get(one, one) for one in (stem + each for each in instead) if one in _KNOWN), word)
    return _AS.get(word, word)


def names_in(text: str) -> frozenset[str]:
    """The names in a text: what begins with a capital letter within a sentence, in small letters."""
    found, begins = set(), True
    for word in text.split():
        bare = word.strip("\"'“”‘’()[],.;:!?")
        if bare[:1].isupper() and not begins and bare != "I":
            found.add(bare.lower() if not bare.isupper() else bare)
        begins = word.endswith((".", "!", "?", ":"))
    return frozenset(found)


def _many_of(word: str, other: str) -> bool:
    """Whether one word is the plural of the other: one notice is not two."""
    return word + "s" == other or other + "s" == word


def _is_number(word: str) -> bool:
    return any(letter.isdigit() for letter in word)


def _asked(side: Wording) -> str:
    return {"asks": "for yes or no", "says": "as an order", "as it is": "as code"}.get(side.kind, f"with {side.kind!r}")


def _listed(mine: Sequence[str], its: Sequence[str]) -> str:
    mine_only = [word for word in mine if word not in its] or list(mine)
    its_only = [word for word in its if word not in mine] or list(its)
    return f"{_quoted(mine_only)} and {_quoted(its_only)}"


def _quoted(words: Sequence[str]) -> str:
    return " ".join(words[:6]) or "none"
