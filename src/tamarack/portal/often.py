"""How often one person may have the portal send something for them."""

from __future__ import annotations

from collections import deque

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
