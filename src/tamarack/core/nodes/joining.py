"""Joining: the tokens and credentials of nodes, their names and labels, and the steps of a quick start."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import Any, NamedTuple

from tamarack.core.errors import CoreError
from tamarack.core.text import line_problem, one_line
from tamarack.core.types import NAME_PATTERN

JOIN_PREFIX = "tmj_"
"""How a join token begins."""
NODE_PREFIX = "tmn_"
"""How a node's credential begins."""
TOKEN_LIVES_S = 3600

MOST_LABELS = 12
_LABEL = re.compile(r"[a-z][a-z0-9-]{0,30}=[A-Za-z0-9][A-Za-z0-9._-]{0,60}")


class CannotJoin(CoreError):
    """A node may not join; the message says why and what to do."""


def node_name(written: str) -> str:
    """A node's name, as it was written. Raises `CannotJoin` where it cannot be one."""
    if not re.fullmatch(NAME_PATTERN, written):
        raise CannotJoin(
            f"A node cannot be called {one_line(written)[:80]!r}: a name holds lower-case letters, digits and hyphens,"
            " begins with a letter, and is at most 63 characters long."
        )
    return written


def name_like(host: str) -> str:
    """A node's name made of its machine's."""
    made = re.sub(r"[^a-z0-9]+", "-", host.partition(".")[0].lower()).strip("-")[:40]
    return made if re.fullmatch(NAME_PATTERN, made) else f"node-{made}".rstrip("-")


def labels_of(written: str) -> list[str]:
    """Labels, written with commas or blanks between: `site=harbour rack=2`. Raises ValueError naming one at fault."""
    found = sorted(dict.fromkeys(part for part in re.split(r"[,\s]+", written) if part))
    for one in found:
        if line_problem(one) or not _LABEL.fullmatch(one):
            raise ValueError(
                f"{one_line(one)[:80]!r} is no label: write a name and a value, like site=harbour. Names hold"
                " lower-case letters, digits and hyphens; values letters, digits, points, hyphens and underscores."
            )
    names = [one.partition("=")[0] for one in found]
    twice = next((name for place, name in enumerate(names) if name in names[:place]), None)
    if twice is not None:
        raise ValueError(f"The label {twice} is given twice; keep one value of it.")
    if len(found) > MOST_LABELS:
        raise ValueError(f"{len(found)} labels are too many; a node has at most {MOST_LABELS}.")
    return found


class StepWords(NamedTuple):
    """A step of a quick start: what it is called before and after it was done."""

    to_do: str
    done: str


STEPS: Mapping[str, StepWords] = {
    "fetched": StepWords("The command is run", "The command was run"),
    "prepared": StepWords("A Python environment is made", "A Python environment was made"),
    "installed": StepWords("The packages are installed", "The packages are installed"),
    "joined": StepWords("The node joins", "The node joined"),
    "running": StepWords("The node is heard of", "The node was heard of"),
    "rollout": StepWords("It takes up the rollout", "It took up the rollout"),
}
"""The steps of a quick start, in their order."""
TOLD_BY_SCRIPT = ("fetched", "prepared", "installed")
"""Steps that the script tells of; the others are seen by the control side itself."""


class SeenStep(NamedTuple):
    """A step as the page shows it."""

    step: str
    words: str
    state: str
    """`done`, `failed`, `next` or `later`."""
    at: float
    problem: str


def steps_seen(told: Sequence[Mapping[str, Any]], running_at: float, rollout: int, rollout_at: float) -> list[SeenStep]:
    """Every step of a quick start, by what was told of it and what is known of the node that joined.

    `running_at` and `rollout_at` are seconds since the epoch, 0 where that has not happened; `rollout` is the number.
    A step counts as done where a later one is: nobody has to tell of each (a node may be set up by hand).
    """
    newest = {str(one["step"]): one for one in told}
    if running_at:
        newest["running"] = {"at": running_at}
    if rollout:
        newest["rollout"] = {"at": rollout_at}
    names = list(STEPS)
    last = max((place for place, name in enumerate(names) if name in newest and not _problem(newest[name])), default=-1)
    found = []
    for place, name in enumerate(names):
        one = newest.get(name, {})
        problem = _problem(one) if place > last else ""
        state = "done" if place <= last else "failed" if problem else "next" if place == last + 1 else "later"
        words = STEPS[name].done if state == "done" else STEPS[name].to_do
        if name == "rollout" and state == "done":
            words = f"{words} {rollout}"
        found.append(SeenStep(name, words, state, float(one.get("at") or 0), problem))
    return found


def _problem(step: Mapping[str, Any]) -> str:
    return str(step.get("problem") or "")
