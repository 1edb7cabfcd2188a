"""The life of a version: which state may follow which, all of them, and what a step is said to do."""

from itertools import product
from typing import Any

import pytest

from core.life_cycle.test_ending import api_of, whole
from helpers import configuration
from tamarack.core.configuration.model import Configuration
from tamarack.core.life_cycle.states import MEANING, STATES, impossible_steps, steps, why_not

ALLOWED = {
    "draft": {"preview", "published", "deprecated", "retired"},
    "preview": {"draft", "published", "deprecated", "retired"},
    "published": {"deprecated", "retired"},
    "deprecated": {"published", "retired"},
    "retired": {"draft", "published", "deprecated"},
}


def with_states(*states: str) -> Configuration:
    return whole(api_of(*({"state": state} for state in states)))


@pytest.mark.parametrize(("was", "now"), list(product(STATES, STATES)))
def test_every_step_is_allowed_or_says_what_to_do_in_its_place(was: Any, now: Any) -> None:
    reason = why_not(was, now)
    assert (reason == "") == (was == now or now in ALLOWED[was])
    found = impossible_steps(with_states(was), with_states(now))
    assert [problem.message for problem in found] == (
        [f"Sailings 1 is {was} and cannot become {now}: {reason}"] if reason else []
    )
    assert all(reason in problem.message for problem in found)
    said = steps(with_states(was), with_states(now))
    assert [(step.was, step.now) for step in said] == ([] if was == now or was == "draft" else [(was, now)])
    assert all(MEANING[now].callers in step.said for step in said)


def test_what_is_removed_is_a_step_too_and_404_is_not_410() -> None:
    before = with_states("published", "retired", "draft")
    for after in (with_states("published").model_copy(update={"apis": ()}), configuration(apis=[])):
        found = steps(before, after)
        assert [(step.version.version, step.now) for step in found] == [("1", None), ("2", None)]
        assert "retired, it would answer 410" in found[0].said
        assert found[1].said == "Calls are answered 404 in place of 410."
        assert impossible_steps(before, after) == []


def test_a_step_to_retired_names_what_takes_its_place() -> None:
    before = whole(api_of({"state": "deprecated", "successor": "2"}, {}))
    after = whole(api_of({"state": "retired", "successor": "2"}, {}))
    (step,) = steps(before, after)
    assert "Callers are told that version 2 takes its place." in step.said
