"""On which line of a text each value stands."""

from collections.abc import Callable, Mapping

from tamarack.core.documents.bounds import Path


class Place:
    """Where a mapping or a list begins, and the lines and places of what is in it. Aliases share one place."""

    __slots__ = ("inner", "line", "lines")

    def __init__(self, line: int) -> None:
        self.line = line
        self.lines: dict[str | int, int] = {}
        """The line of each key or item."""
        self.inner: dict[str | int, Place] = {}
        """The places of those that hold something in turn."""


class Lines:
    """The lines of a text's values by their paths."""

    def __init__(self, top: Place, doubled: list[tuple[Path, int]]) -> None:
        self._top = top
        self.doubled = doubled
        """Keys that stand twice in one mapping, with the line of the second."""

    @staticmethod
    def without_doubled(make: Callable[[], "Lines"]) -> "Lines":
        """The lines of a text that is known to hold no key twice: made when the first one is asked for."""
        return _Later(make)

    def line(self, path: Path, skipping: bool = False) -> int:
        """The line of a value, or of the nearest one that holds it; `skipping` parts that are not in the text."""
        place: Place | None = self._top
        line = self._top.line
        for part in path:
            found = _own(place.lines, part) if place is not None else None
            if place is not None and found is not None:
                line = place.lines[found]
                place = place.inner.get(found)
            elif not skipping:
                return line
        return line


def _own(lines: Mapping[str | int, int], part: str | int) -> str | int | None:
    """The key that a part of a path means: a key `200` may be asked for as the number that it looks like."""
    return part if part in lines else str(part) if str(part) in lines else None


class _Later(Lines):
    def __init__(self, make: Callable[[], Lines]) -> None:
        self._make = make
        self.doubled = []

    def line(self, path: Path, skipping: bool = False) -> int:
        made = self._make()
        self._make = lambda: made
        return made.line(path, skipping)
