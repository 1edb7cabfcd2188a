"""A picker of rates: limits as rows to choose from, read from the text that people write."""

from collections.abc import Sequence
from typing import NamedTuple

from pydantic import TypeAdapter, ValidationError

from tamarack.core.limits.window import UNITS, Window

KINDS = (("fixed", "by the clock"), ("sliding", "in any such span"), ("bucket", "a steady rate with bursts"))
"""How calls are counted, as the picker says it."""
WORDS = (
    ("60 per minute", "60 in each minute of the clock"),
    ("60 per minute, sliding", "60 in any 60 seconds"),
    ("5 per second, burst 20", "5 a second in the long run, up to 20 at once"),
    ("10 per 5 seconds", "any number of seconds, minutes, hours or days"),
    ("0.5 per second, burst 3", "one every two seconds, up to 3 at once"),
)
"""The ways to write a limit, each with what it means."""
_WINDOW = TypeAdapter(Window)


class RateRow(NamedTuple):
    """One limit in the picker; empty texts in a row that is not filled in."""

    calls: str
    per: str
    how: str
    burst: str

    @property
    def spans(self) -> list[str]:
        """The spans to choose from: the usual ones, and the row's own."""
        return [*UNITS, *([self.per] if self.per not in UNITS else [])]


def rate_rows(text: str) -> list[RateRow]:
    """The rows of a text, one for each line that is a limit, and an empty one. Other lines have none."""
    rows = []
    for line in text.splitlines()[:6]:
        try:
            window = _WINDOW.validate_python(line.strip())
        except ValidationError:
            continue
        burst = str(window.burst) if window.burst else ""
        rows.append(RateRow(str(window.limit), window.span, window.algorithm, burst))
    return [*rows, RateRow("", "minute", "fixed", "")]


def to_try(rows: Sequence[RateRow]) -> dict[str, str]:
    """What the page that tries limits is to show: the first of the rows, and the others beside it."""
    filled = [row for row in rows if row.calls]
    if not filled:
        return {}
    first, *others = filled
    said = {"algorithm": first.how, "rate": first.calls, "per": first.per, "also": "; ".join(map(_text, others))}
    return said | ({"burst": first.burst} if first.burst else {})


def _text(row: RateRow) -> str:
    suffix = {"sliding": ", sliding", "bucket": f", burst {row.burst}"}.get(row.how, "")
    return f"{row.calls} per {row.per}{suffix}"
