"""A trace on the call path: placements as rows, stages as columns, a slip for what each policy did."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from tamarack.core.stages import DRAWN, Stage

WORDS = {
    "passed": "passed",
    "refused": "refused",
    "identified": "identified",
    "not shown": "not shown",
    "not reached": "not reached",
    "done": "done",
}


@dataclass(slots=True)
class TraceRow:
    """One placement of a trace."""

    title: str
    cells: dict[Stage, list[Mapping[str, Any]]] = field(default_factory=dict)


def _row_of(placement: str) -> tuple[int, str]:
    """Where a placement stands among the rows, and what it is called."""
    if placement == "everywhere":
        return 0, "Everywhere"
    if placement == "plan":
        return 3, "The plan"
    if placement == "backend":
        return 4, "The backend"
    if placement in ("built in", ""):
        return 5, "Built in"
    api, _, rest = placement.partition("/")
    version, _, call = rest.partition("/")
    return (2, call) if call else (1, f"{api.capitalize()} {version}")


def trace_rows(entries: Sequence[Mapping[str, Any]]) -> list[TraceRow]:
    """The rows of a drawing, the outermost placement first. Each entry is numbered in the order it ran."""
    rows: dict[tuple[int, str], TraceRow] = {}
    for number, entry in enumerate(entries, 1):
        place = _row_of(entry["placement"])
        row = rows.setdefault(place, TraceRow(place[1]))
        row.cells.setdefault(Stage(entry["stage"]), []).append({**entry, "number": number})
    return [rows[place] for place in sorted(rows)]


def reached(entries: Sequence[Mapping[str, Any]]) -> list[str]:
    """For each drawn stage: `refused`, `passed` where anything ran in it, or nothing."""
    found = []
    for stage in DRAWN:
        verdicts = {entry["verdict"] for entry in entries if entry["stage"] == stage.value}
        found.append("refused" if "refused" in verdicts else "passed" if verdicts - {"not reached"} else "")
    return found


def drawing(entries: Sequence[Mapping[str, Any]]) -> dict[str, Any]:
    """What the template of a trace shows."""
    return {"entries": entries, "rows": trace_rows(entries), "reached": reached(entries), "stages": DRAWN}
