"""The call path drawing: placements as rows, stages as columns, a slip for each policy.

Everything is read from `core.configuration.effective`, so the drawing shows what the gateway does.
"""

from dataclasses import dataclass, field

from tamarack.core.configuration.effective import EVERYWHERE, Placement, answers_alone, closed, held, is_open, placed
from tamarack.core.configuration.model import FIELD_METHOD, Api, Configuration, Operation, Version
from tamarack.core.configuration.plans import Plan
from tamarack.core.policies import KINDS, AnyPolicy, kind_of
from tamarack.core.stages import DRAWN, Stage


@dataclass(frozen=True, slots=True)
class Slip:
    """One policy in its cell. `replaced` is struck through, `fresh` is not rolled out yet; `fixed` is built in."""

    title: str
    brief: str
    name: str = ""
    replaced: bool = False
    fresh: bool = False
    fixed: bool = False
    note: str = ""
    off: bool = False
    """Switched off."""


@dataclass(slots=True)
class Row:
    """One placement: its heading, and the slips by stage. `placement` is empty where nothing can be added."""

    level: str
    title: str
    subtitle: str
    cells: dict[Stage, list[Slip]] = field(default_factory=dict)
    can_add: bool = True
    stages: frozenset[Stage] | None = None
    """Where policies may be placed; None for every stage."""


def call_path(
    draft: Configuration,
    running: Configuration,
    api: Api,
    version: Version,
    operation: Operation | None,
    plan: Plan | None,
) -> list[Row]:
    """The rows of the drawing for an operation, or for the whole API."""
    rows = held(draft, api, version, operation)
    live = _live(running, api, version, operation)
    drawn = [
        Row("everywhere", "Everywhere", "every API"),
        Row("api", f"{api.title} {version.version}", "whole API"),
    ]
    if operation is not None:
        drawn.append(_inner(operation))
    by_level = {row.level: row for row in drawn}
    for one in rows:
        kind = kind_of(one.policy)
        fresh = one.policy not in live.get(one.placement, ())
        title = one.policy.called or kind.title
        note = f"replaced by {one.replaced_by.call or 'the API'}" if one.replaced_by is not None else ""
        off = one.policy.off
        note = "switched off" if off else note
        slip = Slip(title, kind.brief(one.policy), one.policy.name, not one.holds, fresh, note=note, off=off)
        by_level[one.placement.level].cells.setdefault(one.stage, []).append(slip)
    everywhere, whole = by_level["everywhere"], by_level["api"]
    if not is_open(rows):
        brief = "in force" if version.open_trial is None else "or on trial"
        everywhere.cells.setdefault(Stage.PERMIT, []).append(Slip("Subscription", brief, fixed=True))
    if version.open_trial is not None:
        brief = ", ".join(window.brief for window in version.open_trial.limits)
        whole.cells.setdefault(Stage.METER, []).append(Slip("On trial", brief, fixed=True))
    if version.state == "deprecated" and version.brown_outs:
        brief = f"{len(version.brown_outs)} planned"
        whole.cells.setdefault(Stage.GUARD, []).append(Slip("Brown-outs", brief, fixed=True))
    if closed(version, rows):
        whole.cells.setdefault(Stage.IDENTIFY, []).append(Slip("Closed", "no way to identify", fixed=True))
    everywhere.cells.setdefault(Stage.RETURN, []).append(Slip("Call id", "field added", fixed=True))
    backend = draft.backend(version.backend)
    targets = len(backend.targets) if backend is not None else 0
    alone = answers_alone(rows)
    if backend is not None:
        brief = "not asked" if alone else f"{targets} target{'' if targets == 1 else 's'}"
        if backend.breaker is not None and not alone:
            brief += ", breaker"
        forward = Slip(backend.name, brief, replaced=alone, fixed=True, note="answered before it" if alone else "")
    else:
        forward = Slip("No backend", "answered before it" if alone else "calls fail", fixed=True)
    whole.cells.setdefault(Stage.FORWARD, []).append(forward)
    if plan is not None and not is_open(rows):
        row = Row("plan", f"{plan.title} plan", "by subscription", can_add=False)
        if plan.limits:
            brief = ", ".join(window.brief for window in plan.limits)
            row.cells[Stage.METER] = [Slip("Limits", brief, fixed=True)]
        drawn.append(row)
    return drawn


def _inner(operation: Operation) -> Row:
    """The row of an operation, or of a field of a graph, where only some kinds may stand."""
    if operation.method != FIELD_METHOD:
        return Row("operation", operation.call, "this operation")
    stages = frozenset(kind.stage for kind in KINDS.values() if kind.on_fields)
    return Row("operation", operation.path, "calls that ask for it", stages=stages)


def _live(
    running: Configuration, api: Api, version: Version, operation: Operation | None
) -> dict[Placement, tuple[AnyPolicy, ...]]:
    """The policies at the same placements in what runs."""
    live: dict[Placement, tuple[AnyPolicy, ...]] = {EVERYWHERE: running.everywhere}
    there = running.api(api.name)
    version_there = there.version(version.version) if there is not None else None
    if there is not None and version_there is not None:
        operation_there = version_there.place(operation.call) if operation is not None else None
        live.update(dict(placed(running, there, version_there, operation_there)))
    return live


def holding(rows: list[Row]) -> list[bool]:
    """For each drawn stage, whether any policy in force stands in it."""
    return [
        any(not slip.replaced and not slip.fixed for row in rows for slip in row.cells.get(stage, ()))
        for stage in DRAWN
    ]
