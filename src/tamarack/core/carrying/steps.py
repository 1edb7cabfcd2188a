"""The steps of a program, and how a trace names them."""

from __future__ import annotations

from typing import NamedTuple

from tamarack.core.carrying.parts import Part, Step
from tamarack.core.carrying.stages import Stage


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


class Lane(NamedTuple):
    """The steps of a program in the order they run, cut where a body has to be read, and where limits are asked."""

    first: tuple[Step, ...]
    """Before the request's body is read, where a later step wants it."""
    steps: tuple[Step, ...]
    """Up to the limits."""
    later: tuple[Step, ...]
    """Behind the limits."""
