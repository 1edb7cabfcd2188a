"""Batches of records that a joined node hands in: which there are, what they are called, and that each tells only of
the node's own calls. A node may be anywhere, so nothing that it says of others is believed.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from typing import Any

from tamarack.core.errors import CoreError
from tamarack.core.text import one_line
from tamarack.core.traffic.record import Record

_NAME = re.compile(r"[0-9a-f]{10,40}-[0-9a-f]{8}")
_ENVIRONMENT, _NODE = Record._fields.index("environment"), Record._fields.index("node")

Where = tuple[Any, Any]
"""The environment and the node that a row names; no node where its kind of row names none."""


def _of_call(row: Any) -> Where:
    return row[_ENVIRONMENT], row[_NODE]


def _of_count(row: Any) -> Where:
    return row[0], None


def _of_entry(row: Any) -> Where:
    return row["environment"], row.get("node")


ENDINGS: Mapping[str, Callable[[Any], Where]] = {
    "calls": _of_call,
    "quotas": _of_count,
    "misfits": _of_count,
    "fields": _of_count,
    "traces": _of_entry,
    "prompts": _of_entry,
}
"""The kinds of batches, by the ending of their files."""


class BatchRefused(CoreError):
    """A batch that is not taken; the message says what is wrong with it."""


def batch_name(written: str) -> tuple[str, str]:
    """A batch's name and ending. Raises `BatchRefused`."""
    name, _, ending = written.partition(".")
    if not _NAME.fullmatch(name) or ending not in ENDINGS:
        raise BatchRefused(f"{one_line(written)[:80]!r} is not the name of a batch")
    return name, ending


def check_rows(ending: str, rows: Any, environment: str, node: str) -> None:
    """See that every row is of this environment and node. Raises `BatchRefused` naming the first that is not."""
    where = ENDINGS[ending]
    if not isinstance(rows, Sequence) or isinstance(rows, str):
        raise BatchRefused("the batch is not a list of rows")
    for place, row in enumerate(rows):
        try:
            named, whose = where(row)
        except (KeyError, IndexError, TypeError, AttributeError):
            raise BatchRefused(f"row {place + 1} is none of {ending}") from None
        if named != environment or whose not in (None, node):
            raise BatchRefused(
                f"row {place + 1} is of {_shown(whose)} in {_shown(named)}; this node is {node} in {environment}"
            )


def _shown(value: Any) -> str:
    return one_line(str(value))[:60] or "nothing"
