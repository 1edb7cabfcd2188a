"""What of the feed a joined node is told: what its own environment needs, with secrets sealed for it alone."""

from collections.abc import Callable
from typing import Any

from tamarack.core.nodes.feed import FeedEntry

Reseal = Callable[[str, str], str]
"""Seals a sealed value anew, for the node, given what it is about."""


def for_node(entry: FeedEntry, environment: str, reseal: Reseal) -> FeedEntry:
    """An item as it goes to a node. Of other environments the node learns only that there is nothing for it."""
    body = entry.body
    if body is None:
        return entry
    if body.get("environment", environment) != environment or (entry.kind == "tracing" and entry.key != environment):
        return entry._replace(body=None)
    if entry.kind == "secret":
        return entry._replace(body=body | {"values": _own_values(entry.key, body, environment, reseal)})
    return entry


def _own_values(name: str, body: dict[str, Any], environment: str, reseal: Reseal) -> dict[str, Any]:
    values = body.get("values") or {}
    own = values.get(environment) or values.get("") or []
    return {environment: [one | {"sealed": reseal(one["sealed"], f"secret {name}")} for one in own]}
