"""Active checks of a target: it counts as unwell after some failed checks, as well after some good."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field, field_validator

from tamarack.core.types import Frozen


class HealthRules(Frozen):
    """How targets are checked, apart from calls."""

    path: Annotated[str, Field(max_length=400)] = "/"
    """What is asked for, below the target's base path, with GET."""
    every_s: Annotated[int, Field(ge=1, le=3_600)] = 10
    within_ms: Annotated[int, Field(ge=10, le=60_000)] = 2_000
    statuses: tuple[Annotated[int, Field(ge=200, le=599)], ...] = ()
    """The statuses that are good; none named, any from 200 to 399."""
    unwell_after: Annotated[int, Field(ge=1, le=100)] = 2
    well_after: Annotated[int, Field(ge=1, le=100)] = 2

    @field_validator("path")
    @classmethod
    def _path(cls, value: str) -> str:
        if not value.startswith("/") or any(letter <= " " or letter > "~" or letter == "#" for letter in value):
            raise ValueError(f"{value!r} is not a path; it starts with / and holds no blank, like /health")
        return value

    def good(self, status: int) -> bool:
        """Whether an answer's status tells that the target is well."""
        return status in self.statuses if self.statuses else 200 <= status < 400


class Checked:
    """What the checks of one target found."""

    __slots__ = ("_row", "rules", "well", "why")

    def __init__(self, rules: HealthRules) -> None:
        self.rules = rules
        self.well = True
        """A node that starts knows nothing, and begins with well."""
        self.why = ""
        self._row = 0
        """How many checks in a row say the opposite of `well`."""

    def noted(self, good: bool, why: str = "") -> bool:
        """A check has ended. Returns whether that changed the state."""
        if good is self.well:
            self._row = 0
            return False
        self._row += 1
        if self._row < (self.rules.well_after if good else self.rules.unwell_after):
            return False
        self.well = good
        self.why = f"{self._row} checks in a row {'were good' if good else f'failed, the last: {why}'}"
        self._row = 0
        return True
