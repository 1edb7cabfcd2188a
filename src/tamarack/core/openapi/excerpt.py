"""The lines of a document around its problems, so that each is seen where it stands."""

from collections.abc import Iterable
from typing import NamedTuple

AROUND = 2
MOST_LINES = 400
LONGEST = 300


class ExcerptLine(NamedTuple):
    """A line with its number; `after_gap` where lines before it are not shown."""

    number: int
    text: str
    wrong: bool
    after_gap: bool


def excerpt(text: str, wrong: Iterable[int]) -> list[ExcerptLine]:
    """The lines that are `wrong` (counted from 1) and those around them, at most 400."""
    lines = text.split("\n")
    marked = {number for number in wrong if 1 <= number <= len(lines)}
    shown = sorted(
        {near for number in marked for near in range(number - AROUND, number + AROUND + 1) if 1 <= near <= len(lines)}
    )
    found = []
    before = 0
    for number in shown[:MOST_LINES]:
        line = lines[number - 1]
        cut = line if len(line) <= LONGEST else line[:LONGEST] + " …"
        found.append(ExcerptLine(number, cut, number in marked, number != before + 1))
        before = number
    return found
