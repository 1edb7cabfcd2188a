"""A picture of how targets stood over time: a band for each target and node, in pieces by state."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime


@dataclass(frozen=True, slots=True)
class Piece:
    """A stretch in one state. `x` and `width` are parts of the whole, in percent."""

    x: float
    width: float
    state: str
    words: str


@dataclass(frozen=True, slots=True)
class Band:
    """One target as one node saw it."""

    target: str
    node: str
    pieces: tuple[Piece, ...]


@dataclass(frozen=True, slots=True)
class Step:
    """A change of state."""

    at: datetime
    target: str
    node: str
    state: str
    why: str


def bands(
    steps: Sequence[Step],
    targets: Sequence[tuple[str, str]],
    first: datetime,
    last: datetime,
    began: Mapping[str, datetime] | None = None,
) -> list[Band]:
    """A band for each target and node. A node begins with well when it starts, which `began` says."""
    return [
        _band(
            [one for one in steps if (one.target, one.node) == place], place, first, last, (began or {}).get(place[1])
        )
        for place in targets
    ]


def _band(
    steps: Sequence[Step], place: tuple[str, str], first: datetime, last: datetime, began: datetime | None
) -> Band:
    whole = (last - first).total_seconds() or 1.0
    state, why, since = "well", "", first
    if began is not None and began > first:
        since = steps[0].at if steps and steps[0].at < began else began
    pieces: list[Piece] = []

    def end(until: datetime) -> None:
        begins, ends = max(since, first), min(until, last)
        if ends > begins:
            said = f"{state} from {begins:%H:%M:%S} to {ends:%H:%M:%S} UTC" + (f": {why}" if why else "")
            at = (begins - first).total_seconds() / whole * 100
            pieces.append(Piece(round(at, 3), round((ends - begins).total_seconds() / whole * 100, 3), state, said))

    for step in steps:
        end(step.at)
        state, why, since = step.state, step.why, step.at
    end(last)
    return Band(*place, tuple(pieces))
