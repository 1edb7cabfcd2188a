"""On how many processes a node runs."""

import os

MOST = 64


def how_many(said: str) -> int:
    """A number of processes, as it was said: one, several, or `auto` for one on each core. Raises ValueError."""
    if said == "auto":
        return min(len(os.sched_getaffinity(0)), MOST)
    if not said.isdecimal() or not 1 <= int(said) <= MOST:
        raise ValueError(f"{said!r} is no number of processes: write 1 to {MOST}, or auto for one on each core")
    return int(said)
