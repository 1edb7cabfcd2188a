"""How much of a text is read, and the error that says it was too much or not readable."""

from tamarack.core.errors import CoreError

MOST_BYTES = 8_000_000
MOST_VALUES = 400_000
"""Counted as they are once aliases are unfolded."""
DEEPEST = 120
LONGEST_NUMBER = 300
"""Digits of a number; longer ones are no measure of anything, and take long to work with."""

Path = tuple[str | int, ...]


class NotReadable(CoreError, ValueError):
    """The text is neither YAML nor JSON; `line` is where reading stopped, counted from 1.

    `bound` where it may well be one of the two, but is more than is read.
    """

    def __init__(self, message: str, line: int, bound: bool = False) -> None:
        super().__init__(message)
        self.line = line
        self.bound = bound


def too_deep(line: int) -> NotReadable:
    """Values that lie deeper than is read."""
    return NotReadable(f"values lie more than {DEEPEST} deep", line, bound=True)


def too_many(line: int) -> NotReadable:
    """More values than are read."""
    return NotReadable(f"the text holds more than {MOST_VALUES:,} values", line, bound=True)


def too_long(number: str, line: int) -> NotReadable:
    """A number that is no number to work with."""
    shown = number if len(number) < 24 else f"{number[:20]}…"
    return NotReadable(f"the number {shown} is larger than any that is read", line, bound=True)
