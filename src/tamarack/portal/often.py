"""What the portal sends for a person: how often, and to which node."""

from __future__ import annotations

from collections import deque

from tamarack.store.nodes import queries as known_nodes
from tamarack.store.nodes.tables import Node
from tamarack.web.application import db

MOST_A_MINUTE = 60
_LATELY: dict[str, deque[float]] = {}


def too_often(person: str, now: float) -> bool:
    """Whether a person has sent as much in the last minute as they may; else this one counts."""
    if len(_LATELY) > 5_000:
        _LATELY.clear()
    tries = _LATELY.setdefault(person, deque(maxlen=MOST_A_MINUTE))
    if len(tries) == MOST_A_MINUTE and now - tries[0] < 60:
        return True
    tries.append(now)
    return False


def often_words(person: str, now: float) -> str:
    """What someone is told who has sent too much; empty for one who may go on."""
    if not too_often(person, now):
        return ""
    return f"You tried {MOST_A_MINUTE} calls within a minute; wait a little, or call from your own program."


def a_node(environment: str) -> Node | None:
    """A node of an environment that answers."""
    return next(iter(known_nodes.carrying(db(), environment)), None)


def nobody_answers(environment: str) -> str:
    """What someone is told where no node does."""
    return f"No node of {environment[:20]} answers at the moment; try again shortly."
