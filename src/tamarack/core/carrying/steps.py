"""The steps of a program, and how a trace names them."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Part, Step
from tamarack.core.carrying.refusals import Refusal
from tamarack.core.stages import Stage


class Told(NamedTuple):
    """One policy within a step, as a trace tells of it: its name and placement, and its part."""

    title: str
    name: str
    placement: str
    part: Part | None = None


class NamedStep(NamedTuple):
    """A step with where it stands. A step of several parts decides over all of them at once."""

    stage: Stage
    step: Step | None
    told: tuple[Told, ...]


class Lane:
    """The steps of a program in the order they run, cut where a body has to be read, and where limits are asked."""

    __slots__ = ("first", "later", "steps")

    def __init__(self, first: tuple[Step, ...], steps: tuple[Step, ...], later: tuple[Step, ...]) -> None:
        self.first = first
        """Before the request's body is read, where a later step wants it."""
        self.steps = steps
        """Up to the limits."""
        self.later = later
        """Behind the limits."""


def note_end(clock: Callable[[], int], place: int) -> Step:
    """A step that notes on the call when a stage has ended, by a clock in nanoseconds."""

    def step(call: Call) -> Refusal | None:
        call.ended_at[place] = clock()
        return None

    return step
