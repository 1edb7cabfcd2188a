"""The question of a prompt, and all else that has to be the same for its answer to be given to another.

What is compared is the last message of the user, or the one text of a prompt. Model, system message, the messages
before it and every parameter have to be equal.
"""

from __future__ import annotations

from collections.abc import Callable
from hashlib import blake2b
from typing import Any, NamedTuple

from tamarack.core.json_pointer import at_pointer, holder_of
from tamarack.core.language_models.near_equal.word_guard import difference, names_in
from tamarack.core.language_models.near_equal.wording import Synonyms, Wording, wording
from tamarack.core.language_models.prompt import Prompt
from tamarack.core.shaping.json_bodies import dump

DIGEST = 16
_OF_A_MEANING = 2_200
"""Bytes that a meaning takes where it is kept, as measured: two rows, twice while a group grows, and its places."""
_OF_WORDS = 500
SHORTEST = 2
"""Words of a question that is compared by its meaning."""

Embed = Callable[[str], Any]
"""The meaning of a text: a numpy array of `index.DIMENSIONS` float32 numbers, of length 1; None where no model is at
hand."""


class Comparing(NamedTuple):
    """How prompts are compared, as a policy says."""

    synonyms: Synonyms
    warmest: float = 0.0
    """The highest temperature of a call whose answer may be given again."""
    unsaid: float = 1.0
    """The temperature of a call that names none."""
    nearest: float = 0.0
    """The least nearness of meanings, as a cosine; 0 where only the words count."""


class Question:
    """What a call asks, and among which others its like is looked for."""

    __slots__ = ("_embed", "_meaning", "digest", "group", "text", "wording")

    def __init__(self, text: str, group: bytes, words: Wording, embed: Embed | None) -> None:
        self.text = text
        self.group = group
        """A digest of all that has to be the same."""
        self.wording = words
        self.digest = blake2b(group + repr(words).encode(), digest_size=DIGEST).hexdigest().encode()
        """Of the group and the wording: questions of the same digest are the same."""
        self._embed = embed
        self._meaning: Any = None

    @property
    def meaning(self) -> Any:
        """Its meaning, found out when it is first asked for; None where it is compared by its words alone."""
        if self._meaning is None and self._embed is not None and self.comparable:
            self._meaning = self._embed(self.text)
        return self._meaning

    def forget(self) -> None:
        """Let go of its meaning, which is kept elsewhere."""
        self._meaning = self._embed = None

    @property
    def size(self) -> int:
        """Bytes that it takes where it is kept."""
        return _OF_WORDS + 4 * len(self.text) + (_OF_A_MEANING if self.comparable else 0)

    @property
    def comparable(self) -> bool:
        """Whether it is compared by its meaning: a question in words, and of enough of them."""
        return self._embed is not None and self.wording.kind != "as it is" and len(self.wording.words) >= SHORTEST


def question_of(prompt: Prompt, scope: bytes, how: Comparing, embed: Embed | None = None) -> Question | str:
    """The question of a prompt; or why its answer is not given to others, in words that go on from "it".

    `scope` is what has to be the same besides: operation, address, caller.
    """
    document = prompt.document
    if not isinstance(document, dict):
        return "is no JSON object"
    why = _why_not(document, prompt, how)
    if why:
        return why
    place = _place(document, prompt)
    if place is None:
        return "does not end with one text of a user"
    holder, name = place
    text = holder[name]
    holder[name] = None
    try:
        rest = dump(document)
    finally:
        holder[name] = text
    told = b"told" if prompt.tells_usage or not prompt.streams else b"untold"
    group = blake2b(b"\n".join((scope, told, rest)), digest_size=DIGEST).digest()
    return Question(text, group, wording(text, how.synonyms), embed if how.nearest else None)


def _why_not(document: dict[str, Any], prompt: Prompt, how: Comparing) -> str:
    if document.get("tools") or document.get("functions"):
        return "lets the model use tools"
    if prompt.answers > 1:
        return f"asks for {prompt.answers} answers"
    warmth = document.get("temperature", how.unsaid)
    if isinstance(warmth, bool) or not isinstance(warmth, int | float):
        return "has a temperature that is no number"
    if warmth > how.warmest:
        unsaid = "" if "temperature" in document else ", as it names none"
        return f"has the temperature {str(warmth)[:12]}{unsaid}; up to {how.warmest:g} its answers are given again"
    return ""


def _place(document: dict[str, Any], prompt: Prompt) -> tuple[Any, Any] | None:
    """Where the question stands: what holds it, and under which name."""
    found = [place for place in prompt.shape.prompts if at_pointer(document, place) is not None]
    if len(found) != 1:
        return None
    held = holder_of(document, found[0])
    if held is None:
        return None
    holder, name = held
    value = holder[name]
    if isinstance(value, str):
        return holder, name
    last = value[-1] if isinstance(value, list) and value else None
    if not isinstance(last, dict) or last.get("role") != "user":
        return None
    content = last.get("content")
    if isinstance(content, str):
        return last, "content"
    if isinstance(content, list) and len(content) == 1 and isinstance(content[0], dict):
        part = content[0]
        return (part, "text") if part.get("type") == "text" and isinstance(part.get("text"), str) else None
    return None


def why_not_the_same(one: Question, other: Question, embed: Embed) -> str:
    """Why two questions of a group whose meanings are near are not the same; empty where they are."""

    def alike(word: str, candidate: str) -> float:
        mine, its = embed(word), embed(candidate)
        return float(mine @ its) if mine is not None and its is not None else 0.0

    return difference(one.wording, other.wording, names_in(one.text) | names_in(other.text), alike)
