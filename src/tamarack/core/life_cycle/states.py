"""The life of a version: what each state means to callers and readers, which state may follow which, and why not."""

from dataclasses import dataclass
from typing import NamedTuple, get_args

from tamarack.core.configuration.model import Api, Configuration, State, Version
from tamarack.core.life_cycle.ending import standing_successor
from tamarack.core.types import Problem


class Meaning(NamedTuple):
    """What a state means."""

    callers: str
    readers: str
    changes: str
    """What may be changed of it."""


MEANING: dict[State, Meaning] = {
    "draft": Meaning(
        "Calls are answered 404.",
        "The portal does not show it.",
        "Everything, and nobody notices.",
    ),
    "preview": Meaning(
        "Calls are answered.",
        "The portal says that it may still change.",
        "Everything: those who try it know that it may.",
    ),
    "published": Meaning(
        "Calls are answered.",
        "The portal offers it to all who see the API.",
        "Everything, and the review says what breaks callers; what does belongs in a new version.",
    ),
    "deprecated": Meaning(
        "Calls are answered as before.",
        "The portal shows it to subscribers only.",
        "As if it were published; its days, its successor and its brown-outs besides.",
    ),
    "retired": Meaning(
        "Every call is answered 410.",
        "The portal does not show it.",
        "What takes its place; all else waits until it is published anew.",
    ),
}

_PROMISED = "callers were promised it; deprecate it, or retire it, and they are told"
_OVER = "it is over; publish it anew, or set it back to deprecated"
FORBIDDEN: dict[tuple[State, State], str] = {
    ("published", "draft"): _PROMISED,
    ("published", "preview"): _PROMISED,
    ("deprecated", "draft"): "subscribers still call it; retire it, and they are told what takes its place",
    ("deprecated", "preview"): "subscribers still call it; publish it again, or retire it",
    ("retired", "preview"): _OVER,
}
"""The steps that may not be taken from what runs, and what to do in their place; every other may."""

STATES: tuple[State, ...] = get_args(State)


@dataclass(frozen=True, slots=True)
class Step:
    """A version that runs and whose state changes; `now` is None where it is removed."""

    api: Api
    version: Version
    was: State
    now: State | None

    @property
    def said(self) -> str:
        """What that does to callers and readers."""
        if self.now is None and self.was == "retired":
            return "Calls are answered 404 in place of 410."
        if self.now is None:
            return "Calls are answered 404, and nothing tells callers why; retired, it would answer 410."
        named = ""
        if self.now == "retired":
            successor = standing_successor(self.api, self.version)
            named = f"Callers are told that version {successor.version} takes its place. " if successor else ""
        meaning = MEANING[self.now]
        return f"{meaning.callers} {named}{meaning.readers}"


def why_not(was: State, now: State) -> str:
    """Why a version that runs in one state may not go to another; empty where it may."""
    return FORBIDDEN.get((was, now), "")


def steps(before: Configuration, after: Configuration) -> list[Step]:
    """The versions that run and whose state changes or that are removed, in the order of what runs."""
    found = []
    for api in before.apis:
        then = after.api(api.name)
        for version in api.versions:
            if version.state == "draft":
                continue
            follows = then.version(version.version) if then is not None else None
            if follows is None or then is None:
                found.append(Step(api, version, version.state, None))
            elif follows.state != version.state:
                found.append(Step(then, follows, version.state, follows.state))
    return found


def impossible_steps(before: Configuration, after: Configuration) -> list[Problem]:
    """The steps from what runs that may not be taken."""
    found = []
    for step in steps(before, after):
        reason = why_not(step.was, step.now) if step.now is not None else ""
        if reason:
            called = f"{step.api.title} {step.version.version}"
            message = f"{called} is {step.was} and cannot become {step.now}: {reason}"
            found.append(
                Problem(path=("apis", step.api.name, "versions", step.version.version, "state"), message=message)
            )
    return found
