"""Answers of language models held against rules as they pass: whole ones, and streams over the borders of their pieces.

Of a stream every event passes at once, with as much of its text as cannot be the beginning of what is looked for; the
rest comes with the next event, or with the one that ends the answer.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import orjson

from tamarack.core.json_pointer import at_pointer, holder_of
from tamarack.core.language_models.event_cutter import EventCutter, as_event, data_of
from tamarack.core.language_models.word_rules import MASK, Rules, WordRule

LARGEST_ANSWER = 4_000_000
"""Bytes of a whole answer that is held against rules; what is longer does not pass."""
ENDED = "content_filter"
MOST_CHOICES = 128
_DONE = b"[DONE]"

Noted = Callable[[WordRule], None]
"""Is told of a rule that ended an answer."""


def _holder(document: Any, place: str) -> tuple[dict[str, Any], str] | None:
    """What holds the text at a place, and its name there."""
    found = holder_of(document, place)
    return found if found is not None and isinstance(found[0][found[1]], str) else None


def _ended(document: Any) -> None:
    """Say of every answer in a document that rules ended it."""
    choices = document.get("choices") if isinstance(document, dict) else None
    for choice in choices if isinstance(choices, list) else ():
        if isinstance(choice, dict) and "finish_reason" in choice:
            choice["finish_reason"] = ENDED


class GuardedAnswer:
    """A `Filter` over a whole JSON answer."""

    __slots__ = ("_noted", "_pieces", "_places", "_rules", "_size")

    def __init__(self, rules: Rules, places: tuple[str, ...], noted: Noted) -> None:
        self._rules = rules
        self._places = places
        self._noted = noted
        self._pieces: list[bytes] = []
        self._size = 0

    def piece(self, data: bytes) -> bytes:
        """Nothing passes before the answer is whole."""
        self._size += len(data)
        if self._size <= LARGEST_ANSWER:
            self._pieces.append(data)
        return b""

    def end(self) -> bytes:
        """The answer as the rules let it pass."""
        whole = b"".join(self._pieces)
        if self._size > LARGEST_ANSWER:
            return b'{"error":{"message":"The answer is too large to be held against the rules of this API."}}'
        try:
            document = orjson.loads(whole)
        except ValueError:
            return whole
        changed = False
        for place in self._places:
            for one in _each(place):
                held = _holder(document, one)
                if held is None:
                    break
                holder, name = held
                holder[name], rule = self._rules.masked(before := holder[name])
                changed = changed or holder[name] != before
                if rule is not None:
                    self._noted(rule)
                    _ended(document)
        return orjson.dumps(document) if changed else whole


def _each(place: str) -> list[str]:
    """A place of the first of several answers, and the same of the others."""
    if "/0/" not in place:
        return [place]
    return [place.replace("/0/", f"/{number}/", 1) for number in range(MOST_CHOICES)]


class GuardedStream:
    """A `Filter` over a stream of events."""

    __slots__ = ("_cutter", "_held", "_last", "_noted", "_over", "_places", "_rules")

    def __init__(self, rules: Rules, places: tuple[str, ...], noted: Noted) -> None:
        self._rules = rules
        self._places = places
        self._noted = noted
        self._cutter = EventCutter()
        self._held: dict[Any, tuple[str, str]] = {}
        """The last character that passed, and text that did not pass yet, by the number of its answer."""
        self._over: set[Any] = set()
        """Answers that a rule ended."""
        self._last: dict[Any, tuple[Any, str]] = {}
        """The last event that had text of an answer, and where."""

    def piece(self, data: bytes) -> bytes:
        """What passes on of this piece and those before it."""
        return b"".join(self._event(event) for event, looks in self._cutter.cut(data) if looks)

    def _event(self, event: bytes) -> bytes:
        data, others = data_of(event)
        if data.strip() == _DONE:
            return self._rest() + event
        try:
            document = orjson.loads(data)
        except ValueError:
            return event
        number = at_pointer(document, "/choices/0/index", 0)
        number = number if isinstance(number, int) else 0
        finish = at_pointer(document, "/choices/0/finish_reason")
        found = next(((place, held) for place in self._places if (held := _holder(document, place))), None)
        if found is None:
            if finish is None:
                return event
            rest = self._rest_of(number)
            if number in self._over:
                _ended(document)
                return rest + as_event(orjson.dumps(document), others)
            return rest + event
        place, (holder, name) = found
        text = self._passed(number, holder[name], finish is not None)
        self._last[number] = (document, place)
        if number in self._over:
            _ended(document) if finish is not None else None
        if text == holder[name]:
            return event
        holder[name] = text
        return as_event(orjson.dumps(document), others)

    def _passed(self, number: Any, more: str, last: bool) -> str:
        """What may pass of an answer's text that did not pass yet, with more of it; the rest has to wait."""
        if number in self._over:
            return ""
        before, waiting = self._held.get(number, ("", ""))
        text = before + waiting + more
        made, at = [], len(before)
        keep = len(text) if last else self._rules.may_begin(text, at)
        for start, end, rule in self._rules.finds(text, at):
            if end == len(text) and not last:
                keep = min(keep, start)
                break
            made.append(text[at:start])
            if rule.do != "mask":
                self._over.add(number)
                self._noted(rule)
                return "".join(made)
            made.append(MASK)
            at = max(end, start + 1)
        keep = max(keep, at)
        made.append(text[at:keep])
        self._held[number] = (text[max(0, keep - 1) : keep], text[keep:])
        return "".join(made)

    def _rest_of(self, number: Any) -> bytes:
        """An event with the text of an answer that still waits."""
        text = self._passed(number, "", True)
        if not text or number not in self._last:
            return b""
        document, place = self._last[number]
        held = _holder(document, place)
        if held is None:
            return b""
        held[0][held[1]] = text
        return as_event(orjson.dumps(document), [])

    def _rest(self) -> bytes:
        return b"".join(self._rest_of(number) for number in list(self._held))

    def end(self) -> bytes:
        """What is left when the stream has ended. An event that is not whole does not pass."""
        self._cutter.rest()
        return self._rest()
