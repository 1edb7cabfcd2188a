"""Trying which prompts would be taken for the same, before and after a policy says so."""

from functools import cache
from typing import Any

from flask import Blueprint, request
from pydantic import ValidationError

from tamarack.console.kept.pages import cache_policies
from tamarack.console.page import acting, environment, may, render, requires, running
from tamarack.core.language_models.near_equal.comparison import MOST_PROMPTS, Comparison, compare
from tamarack.core.language_models.near_equal.wording import LONGEST
from tamarack.core.policies.answer.near_equal_prompts import NearEqualPrompts
from tamarack.core.types import problems_of
from tamarack.embedding import load
from tamarack.store.prompts import queries as logging
from tamarack.store.prompts.queries import Wanted
from tamarack.web.application import db

pages = Blueprint("prompts", __name__, url_prefix="/kept/compare")

_meanings = cache(load)
"""The model, loaded when meanings are first compared here."""
FIELDS = ("alike", "nearest", "same")
WORKED = (
    "When does the last ferry to Brae Haven leave?",
    "At what time does the last ferry to Brae Haven leave, please?",
    "When is the last ferry to Brae Haven departing?",
    "When does the first ferry to Brae Haven leave?",
    "When does the last ferry from Brae Haven leave?",
)
"""Prompts to begin with."""


@pages.get("/")
@requires("see")
def form() -> Any:
    """The form, set as a policy that runs is, or as a new one is, with prompts that were kept or some to begin with."""
    found = cache_policies(running(environment())[1]).get(request.args.get("policy", ""))
    policy = found.policy if found is not None and isinstance(found.policy, NearEqualPrompts) else NearEqualPrompts()
    if request.args.get("recorded") and may("prompts"):
        wanted = Wanted(environment(), request.args.get("api", ""), request.args.get("application", ""))
        found_questions = logging.questions(db(), wanted, MOST_PROMPTS)
        prompts = [" ".join(one.split()) for one in found_questions if len(one) <= LONGEST]
        logging.note_reading(db(), acting(), wanted)
        db().commit()
    else:
        prompts = list(WORKED)
    typed = {"alike": policy.alike, "nearest": f"{policy.nearest:g}", "same": "\n".join(map(str, policy.same))}
    return _page(typed | {"prompts": "\n".join(prompts)}, {}, policy)


@pages.post("/")
@requires("see")
def tried() -> Any:
    """Compare what was typed. Nothing is saved."""
    typed = {name: request.form.get(name, "").replace("\r\n", "\n") for name in (*FIELDS, "prompts")}
    errors: dict[str, str] = {}
    policy = _policy(typed, errors)
    prompts = [line.strip() for line in typed["prompts"].split("\n") if line.strip()]
    if len(prompts) < 2:
        errors["prompts"] = "Two prompts or more are compared; write one on each line."
    elif len(prompts) > MOST_PROMPTS:
        errors["prompts"] = f"{len(prompts)} prompts; at most {MOST_PROMPTS} are compared at once. Take some away."
    elif max(map(len, prompts)) > LONGEST:
        errors["prompts"] = f"A prompt has more than {LONGEST:,} characters; only shorter ones are compared."
    if errors or policy is None:
        return _page(typed, errors, None), 422
    embed = _meanings() if policy.by_meaning else None
    comparison = compare(prompts, policy.comparing, embed)
    return _page(typed, {}, policy, comparison)


def _policy(typed: dict[str, str], errors: dict[str, str]) -> NearEqualPrompts | None:
    same = [line for line in typed["same"].split("\n") if line.strip()]
    given: dict[str, Any] = {"alike": typed["alike"], "same": same}
    if typed["alike"] != "by the same words":
        given["nearest"] = typed["nearest"].strip()
    try:
        return NearEqualPrompts.model_validate(given)
    except ValidationError as error:
        for problem in problems_of(error):
            name = str(problem.path[0]) if problem.path else ""
            errors.setdefault(name if name in FIELDS else "same", problem.message)
        return None


def _page(
    typed: dict[str, str],
    errors: dict[str, str],
    policy: NearEqualPrompts | None,
    comparison: Comparison | None = None,
) -> str:
    return render(
        "kept/compare.html",
        typed=typed,
        errors=errors,
        policy=policy,
        comparison=comparison,
        ways=[(way, way.capitalize()) for way in ("by the same words", "by their meaning")],
    )
