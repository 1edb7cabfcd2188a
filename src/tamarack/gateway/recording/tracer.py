"""The tracer: decides which calls are traced, and keeps their traces for the recorder."""

import random
from collections import OrderedDict
from collections.abc import Callable
from time import perf_counter_ns
from typing import Any

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.program import Operation
from tamarack.core.carrying.refusals import REASONS
from tamarack.core.http.fields import Header
from tamarack.core.identity.directory import Directory
from tamarack.core.identity.material import Material
from tamarack.core.stages import Stage
from tamarack.core.text import cleaned
from tamarack.core.told.trace import Entry, Pairs, Trace, Vouched, as_data, shown_headers
from tamarack.core.trying.ticket import LIVES_S, Ticket, read_ticket

MOST_NONCES = 10_000

Keep = Callable[[dict[str, Any]], None]


class CallTrace(Trace):
    """The trace of one call while a node carries it."""

    def __init__(self, ticket: Ticket | None, vouched: Vouched | None, sampled: bool, headers: Pairs) -> None:
        super().__init__(perf_counter_ns, vouched)
        self.by = ticket.by if ticket is not None else ""
        self.sampled = sampled
        self.headers = headers
        self.answer: list[Header] = []
        """The fields of the backend's answer."""


class Tracer:
    """One for a node. `keep` takes finished traces."""

    def __init__(
        self, material: Material, directory: Directory, environment: str, node: str, key: bytes, keep: Keep
    ) -> None:
        self._tracing = material.tracing
        self._directory = directory
        self._environment, self._node = environment, node
        self.key = key
        """What the console seals its tickets and requests with."""
        self._keep = keep
        self._nonces: OrderedDict[str, float] = OrderedDict()
        self._draw = random.Random()  # noqa: S311 - chooses which calls are traced

    def begin(self, call: Call) -> CallTrace | None:
        """How a call is traced; None where it is not."""
        assert call.operation is not None
        headers = shown_headers(call.headers, call.operation.secret)
        ticket = self._ticket(call.ticket, call.now) if call.ticket else None
        if ticket is not None:
            found = self._directory.application(ticket.application) if ticket.application else None
            vouched = Vouched(found, ticket.claims, ticket.by) if found is not None else None
            return CallTrace(ticket, vouched, True, headers)
        tracing = self._tracing
        if not tracing.active(call.now):
            return None
        return CallTrace(None, None, tracing.share > 0 and self._draw.random() < tracing.share, headers)

    def _ticket(self, value: bytes, now: float) -> Ticket | None:
        ticket = read_ticket(value, self.key, self._environment, self._node, now)
        if ticket is None or ticket.nonce in self._nonces:
            return None
        self._nonces[ticket.nonce] = now
        while self._nonces and (
            len(self._nonces) > MOST_NONCES or next(iter(self._nonces.values())) < now - 3 * LIVES_S
        ):
            self._nonces.popitem(last=False)
        return ticket

    def finish(self, call: Call, operation: Operation | None) -> None:
        """Keep a call's trace, where it is wanted."""
        trace, caller = call.trace, call.caller
        if not trace.sampled:
            until = self._tracing.watched.get(caller.application_id, 0) if caller is not None else 0
            if until <= call.now:
                return
        entries = list(trace.entries)
        secret = frozenset[str]()
        if operation is not None:
            secret = operation.secret
            entries += trace.not_reached(operation.named)
        if call.target:
            verdict = "refused" if call.reason else "done"
            text = REASONS[call.reason].title if call.reason else f"answered {call.status}"
            entries.append(
                Entry(Stage.FORWARD.value, operation.backend if operation is not None else "", verdict, "", "backend",
                      text, [("target", call.target)], us=call.backend_us)
            )  # fmt: skip
            own_us = max(0, call.total_us - call.backend_us - sum(entry.us for entry in trace.entries))
            entries.append(
                Entry(Stage.RETURN.value, "Answer", "done", "", "built in", f"{call.status} to the caller",
                      shown_headers(trace.answer, secret), us=own_us)
            )  # fmt: skip
        named = f"{operation.api} {operation.version}, {operation.name}" if operation is not None else ""
        self._keep(
            cleaned(
                {
                    "call": call.id.decode(),
                    "at": call.now,
                    "environment": self._environment,
                    "application": f"{caller.organization}/{caller.application}" if caller is not None else "",
                    "by": trace.by,
                    "operation": named,
                    "status": call.status,
                    "reason": call.reason,
                    "note": call.note,
                    "headers": trace.headers,
                    "entries": as_data(entries),
                    "total_us": call.total_us,
                }
            )
        )
