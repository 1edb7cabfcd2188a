"""The password rules of a directory of end users; each that a password breaks is named."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection
from typing import NamedTuple

from pydantic import Field

from tamarack.core.identity.passwords import LONGEST
from tamarack.core.types import Frozen

SHORTEST = 8
_CHANGED = str.maketrans("0134578@$!", "oleastbasi")
_WELL_KNOWN = frozenset(
    ("password", "passwort", "passord", "qwerty", "qwertz", "letmein", "welcome", "iloveyou", "admin", "administrator",
     "changeme", "abcdef", "abcdefgh", "asdfghjkl", "trustno", "sunshine", "football", "princess", "dragon", "monkey",
     "ferry", "harbour", "passenger", "skerry", "secret", "master", "login", "starwars", "whatever", "superman")
)  # fmt: skip
"""Words that every list of guesses begins with, in lower case, with digits read as the letters they stand for."""


class PasswordRules(Frozen):
    """What a password of a directory has to have."""

    shortest: int = Field(default=12, ge=SHORTEST, le=64, title="At least so many characters")
    digit: bool = Field(default=False, title="A digit")
    upper: bool = Field(default=False, title="A capital letter")
    lower: bool = Field(default=False, title="A small letter")
    sign: bool = Field(default=False, title="A sign that is no letter and no digit")
    well_known: bool = Field(default=True, title="No well-known password")


class Broken(NamedTuple):
    """A rule that a password breaks: its name, for programs, and what is asked for, for people."""

    rule: str
    words: str


_HAS: tuple[tuple[str, Callable[[str], bool], str], ...] = (
    ("digit", lambda text: any(one.isdigit() for one in text), "needs a digit"),
    ("upper", lambda text: any(one.isupper() for one in text), "needs a capital letter"),
    ("lower", lambda text: any(one.islower() for one in text), "needs a small letter"),
    ("sign", lambda text: any(not one.isalnum() for one in text), "needs a sign that is no letter and no digit"),
)


def broken_rules(password: str, rules: PasswordRules, about: Collection[str] = (), was: bool = False) -> list[Broken]:
    """Every rule that a new password breaks, in the order in which people read them; none where it will do.

    `about` are the user's own words, like the name and the mail address. `was` says that it is the one before.
    """
    found = []
    if len(password) < rules.shortest:
        found.append(Broken("shortest", f"needs at least {rules.shortest} characters; this has {len(password)}"))
    if len(password) > LONGEST:
        found.append(Broken("longest", f"may have at most {LONGEST} characters; this has {len(password)}"))
    found += [Broken(rule, words) for rule, has, words in _HAS if getattr(rules, rule) and not has(password)]
    if rules.well_known and _is_well_known(password):
        found.append(Broken("well-known", "is among the first that are guessed; choose another"))
    plain = password.lower()
    if any(len(word) > 3 and word in plain for word in _words(about)):
        found.append(Broken("personal", "holds your name or mail address; leave it out"))
    if was:
        found.append(Broken("unchanged", "is the one you have; choose another"))
    return found


def _words(about: Collection[str]) -> set[str]:
    return {word for text in about for word in re.split(r"[\s@.,_+-]+", text.lower()) if word}


def _is_well_known(password: str) -> bool:
    """Whether little is left of a password beside a well-known word, or it repeats the same few characters."""
    if len(set(password)) < 5:
        return True
    plain = re.sub(r"[^a-z]", "", password.lower().translate(_CHANGED))
    letters = re.sub(r"[^a-z]", "", password.lower())
    return any(word in text and len(password) - len(word) < 6 for text in (plain, letters) for word in _WELL_KNOWN)


def in_words(rules: PasswordRules) -> str:
    """The rules as whoever chooses a password reads them first."""
    asks = [f"at least {rules.shortest} characters"]
    asks += [words.removeprefix("needs ") for rule, _, words in _HAS if getattr(rules, rule)]
    text = ", ".join(asks)
    return f"{text[0].upper()}{text[1:]}; not your name, and none that everyone guesses"
