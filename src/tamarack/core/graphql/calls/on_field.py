"""Policies on a field: their parts run for calls whose documents ask for it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Answerer, Change, Check, Limit, NoRunner, Part
from tamarack.core.carrying.refusals import Refusal
from tamarack.core.graphql.calls.asked import GraphAsked
from tamarack.core.http.heads import Answered

Asks = Callable[[Call], bool]


def asks_for(field: str) -> Asks:
    """Whether a call asks for a field, `Type.field`, or for any of a type, `Type.*`. Without a schema nobody can tell,
    and every call may."""
    whole = field.removesuffix("*") if field.endswith(".*") else ""

    def asks(call: Call) -> bool:
        asked: GraphAsked | None = call.graph
        if asked is None:
            return False
        if not asked.typed:
            return True
        every = (run.operation.used for run in asked.runs)
        return any(any(one.startswith(whole) for one in used) if whole else field in used for used in every)

    return asks


def where_asked(field: str, part: Part) -> Part:
    """A part as it runs on a field. Raises `NoRunner` for one that cannot be left out of a call."""
    asks = asks_for(field)
    if isinstance(part, Check) and part.body_limit is None and part.browser is None:
        run = part.run
        return replace(part, run=lambda call: run(call) if asks(call) else None)
    if isinstance(part, Limit):
        return replace(part, when=asks)
    if isinstance(part, Change):
        return _changing(part, asks)
    if isinstance(part, Answerer) and not part.asks:
        answer: Callable[[Call], Any] = part.answer
        return replace(part, answer=lambda call: answer(call) if asks(call) else None)
    raise NoRunner(f"a {type(part).__name__} cannot stand on the field {field}: it holds for whole calls")


def _changing(part: Change, asks: Asks) -> Change:
    request, answer = part.request, part.answer

    def change(call: Call) -> Refusal | None:
        return request(call) if request is not None and asks(call) else None

    def give(call: Call, answered: Answered) -> Refusal | None:
        return answer(call, answered) if answer is not None and asks(call) else None

    return replace(
        part, request=change if request is not None else None, answer=give if answer is not None else None, wanted=asks
    )
