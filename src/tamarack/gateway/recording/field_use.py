"""Which fields of GraphQL APIs applications asked for since the last batch."""

from __future__ import annotations

from tamarack.core.carrying.call import Call
from tamarack.core.graphql.calls.asked import GraphAsked
from tamarack.core.graphql.document import Operation

MOST = 20_000
"""Documents by application that are counted in one batch; what comes beyond is not counted."""

Row = tuple[str, str, str, str, str, str, int, float]
"""Environment, API, version, field, organization, application; calls, and when the newest came."""


class _Counted:
    """How often one application ran one operation of a document."""

    __slots__ = ("at", "calls", "operation", "where")

    def __init__(self, operation: Operation, where: tuple[str, str, str, str]) -> None:
        self.operation = operation
        self.where = where
        self.calls = 0
        self.at = 0.0


class FieldUse:
    """One for a node. Calls are counted by document, and by field when a batch is taken."""

    def __init__(self, environment: str) -> None:
        self._environment = environment
        self._counted: dict[tuple[int, str, str], _Counted] = {}

    def add(self, call: Call) -> None:
        """Count what a call asked for that was carried."""
        asked: GraphAsked = call.graph
        operation, caller = call.operation, call.caller
        if operation is None or call.reason:
            return
        organization, application = (caller.organization, caller.application) if caller is not None else ("", "")
        for run in asked.runs:
            key = (id(run.operation), organization, application)
            counted = self._counted.get(key)
            if counted is None:
                if len(self._counted) >= MOST:
                    continue
                where = (operation.api, operation.version, organization, application)
                counted = self._counted[key] = _Counted(run.operation, where)
            counted.calls += 1
            counted.at = call.now

    def take(self) -> list[Row]:
        """The batch by field, which is begun anew."""
        if not self._counted:
            return []
        counted, self._counted = self._counted, {}
        sums: dict[tuple[str, str, str, str, str], tuple[int, float]] = {}
        for one in counted.values():
            api, version, organization, application = one.where
            for name in one.operation.named:
                key = (api, version, name, organization, application)
                calls, at = sums.get(key, (0, 0.0))
                sums[key] = (calls + one.calls, max(at, one.at))
        return [(self._environment, *key, calls, at) for key, (calls, at) in sums.items()]
