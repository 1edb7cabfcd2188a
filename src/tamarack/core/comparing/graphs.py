"""Two GraphQL schemas compared: what differs, and whether it breaks documents that were written for the earlier one."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

from graphql.utilities import BreakingChange, DangerousChange, find_schema_changes

from tamarack.core.comparing.rules import Difference
from tamarack.core.graphql.described import schema_in
from tamarack.core.graphql.schema import SchemaProblem, graph_of

_PLACE = re.compile(r"\b([_A-Za-z][_0-9A-Za-z]*\.[_0-9A-Za-z]+)(\([^)]*\))?")
SCHEMA = "schema"
"""What a difference is of that is of no one field."""
_IN_WORDS = {
    "REQUIRED_ARG_ADDED": "needs another argument: {}",
    "OPTIONAL_ARG_ADDED": "takes another argument: {}",
    "FIELD_REMOVED": "is gone",
    "FIELD_ADDED": "is new",
}


def graph_differences(before: dict[str, Any], after: dict[str, Any]) -> Iterator[Difference]:
    """The differences between the schemas that two descriptions hold; none where either holds none."""
    old, new = schema_in(before), schema_in(after)
    if not old or not new or old == new:
        return
    try:
        was, now = graph_of(old).schema, graph_of(new).schema
    except SchemaProblem:
        return
    for change in find_schema_changes(was, now):
        if change.type.name == "DESCRIPTION_CHANGED":
            continue
        rule = (
            "graph-broken" if isinstance(change, BreakingChange)
            else "graph-risky" if isinstance(change, DangerousChange)
            else "graph-safe"
        )  # fmt: skip
        found = _PLACE.search(change.description)
        words = change.description.rstrip(".")
        if found is None:
            yield Difference(SCHEMA, "", words, rule, "requests")
            continue
        template = _IN_WORDS.get(change.type.name)
        rest = words[found.end() :].strip()
        what = template.format((found[2] or "").strip("()").rstrip(":")) if template else rest or words
        where = f"argument {found[2].strip('()').rstrip(':')}" if found[2] and not template else ""
        yield Difference(found[1], where, what, rule, "requests")
    yield from _deprecated(was, now)


def _deprecated(was: Any, now: Any) -> Iterator[Difference]:
    """Fields that are deprecated now, or are not any more."""
    for name, kind in now.type_map.items():
        before = was.type_map.get(name)
        fields, earlier = getattr(kind, "fields", None), getattr(before, "fields", None)
        if name.startswith("__") or not fields or not earlier:
            continue
        for field, told in fields.items():
            there = earlier.get(field)
            if there is None or (there.deprecation_reason is None) == (told.deprecation_reason is None):
                continue
            is_now = told.deprecation_reason is not None
            rule = "operation-deprecated" if is_now else "operation-restored"
            what = "is deprecated now" if is_now else "is not deprecated any more"
            yield Difference(f"{name}.{field}", "", what, rule, "requests")
