"""What calls did not fit of their descriptions since the last batch, counted by operation and place."""

from __future__ import annotations

from collections.abc import Mapping

from tamarack.core.carrying.call import Call
from tamarack.core.checking.misfit import NO_METHOD, NO_PATH, TOO_MANY
from tamarack.core.checking.unknown_paths import Version, below, shape_of

MOST = 2_000
"""Places counted by themselves in one batch; beyond it they are counted together, by operation."""
OTHERS = ("", "others", "", TOO_MANY, False)

Place = tuple[str, str, str, str, str, str, str, bool]
"""API, version, operation; side, place, field, words, and whether the description does not name it."""
Row = tuple[str, str, str, str, str, str, str, str, bool, int, int, float, str]
"""The environment, a place, calls passed and refused; when the newest came (seconds since the epoch), and its id."""


class MisfitCount:
    """One for a node."""

    def __init__(self, environment: str) -> None:
        self._environment = environment
        self._counted: dict[Place, tuple[int, int, float, str]] = {}

    def add_unknown(self, call: Call, bases: Mapping[bytes, Version]) -> None:
        """Count a call that asked for what no operation is at, where it lies below a version's base path."""
        found = below(bases, call.path)
        if found is None:
            return
        version, rest = found
        words = NO_PATH if call.reason == "unknown-path" else NO_METHOD
        self._count((*version, "", "request", "operation", f"{call.method} {shape_of(rest)}", words, True), call, True)

    def add(self, call: Call) -> None:
        """Count what of a call that has ended does not fit; the same place once."""
        operation = call.operation
        if operation is None:
            return
        refused = call.reason in ("misfit-request", "misfit-answer")
        for one in {(one.side, one.place, one.field, one.words, one.undescribed) for one in call.misfits}:
            self._count((*operation.named_in_records, *one), call, refused)

    def _count(self, place: Place, call: Call, refused: bool) -> None:
        counted = self._counted
        if place not in counted and len(counted) >= MOST:
            place = (*place[:3], *OTHERS)
        passed, turned_away, _, _ = counted.get(place, (0, 0, 0.0, ""))
        counted[place] = (passed + (not refused), turned_away + refused, call.now, call.id.decode())

    def take(self) -> list[Row]:
        """The batch, which is begun anew."""
        if not self._counted:
            return []
        counted, self._counted = self._counted, {}
        return [(self._environment, *place, *counts) for place, counts in counted.items()]
