"""The question that an address holds: read the same way by explorations, lists of calls, and what is handed over."""

from typing import Any

from flask import request
from pydantic import ValidationError

from tamarack.console.page import environment
from tamarack.core.traffic.explore import Exploration
from tamarack.core.traffic.where import Where, lines, read_where
from tamarack.core.types import problems_of

MOST_TYPED = 300


def typed_where() -> list[str]:
    """The conditions of this request, each on a line of its own, with the one being added last."""
    return [line for text in request.args.getlist("where") for line in lines(text)][:30]


def typed_span() -> str:
    """The span of this request: two moments where both were given, else a name."""
    first, last = (request.args.get(name, "").strip() for name in ("first", "last"))
    if first and last:
        return f"{first}/{last}"
    return request.args.get("span", "day").strip()[:80] or "day"


def typed_question() -> dict[str, Any]:
    """What this request asks, as it was typed."""
    asked = request.args.get("measure", "calls")
    percent = request.args.get("percent", "").strip()
    if percent:
        of = next((kind for kind in ("backend ", "gateway ") if asked.startswith(kind)), "")
        asked = f"{of}p{percent}"
    return {
        "measure": asked[:40],
        "split": [name for name in request.args.getlist("split") if name],
        "where": typed_where(),
        "span": typed_span(),
        "step": request.args.get("step", ""),
        "against": request.args.get("against", ""),
        "picture": request.args.get("picture", "area"),
    }


def asked() -> tuple[Exploration, dict[str, str]]:
    """The exploration that the address holds, and what is wrong with it; what is right of it stands all the same."""
    typed = typed_question()
    try:
        return Exploration.model_validate(typed), {}
    except ValidationError as error:
        problems = problems_of(error)
    errors = {str(one.path[0]) if one.path else "step": one.message for one in problems}
    wrong = {(one.path[0], one.path[1] if len(one.path) > 1 else None) for one in problems if one.path}
    for name, place in wrong:
        if name == "where" and isinstance(place, int):
            typed["where"][place] = ""
        else:
            typed.pop(str(name), None)
    if not all(one.path for one in problems):
        typed.pop("step", None)
    if "where" in typed:
        typed["where"] = [line for line in typed["where"] if line]
    try:
        return Exploration.model_validate(typed), errors
    except ValidationError:
        return Exploration(), errors


def conditions() -> tuple[tuple[Where, ...], dict[str, str]]:
    """The conditions that the address holds, and what is wrong with those that are none."""
    found: list[Where] = []
    for line in typed_where():
        try:
            found.append(read_where(line))
        except ValueError as error:
            words = problems_of(error)[0].message if isinstance(error, ValidationError) else str(error)
            return tuple(found), {"where": words}
    return tuple(found), {}


def within_environment(where: tuple[Where, ...], split: tuple[str, ...] = ()) -> tuple[Where, ...]:
    """Only of the chosen environment, unless the question names one itself."""
    if any(one.field == "environment" for one in where) or "environment" in split:
        return where
    return (*where, Where(field="environment", how="is", values=(environment(),)))


def here(exploration: Exploration) -> Exploration:
    """An exploration of the chosen environment, unless it names one itself."""
    where = within_environment(exploration.where, exploration.split)
    return exploration.model_copy(update={"where": where})
