"""The tracer: decides which calls are traced, and keeps their traces for the recorder."""

import random
from collections import OrderedDict
from collections.abc import Callable
from time import perf_counter_ns
from typing import Any

from tamarack.core.carrying.call import Call, Header
from tamarack.core.carrying.refusals import Refusal
from tamarack.core.carrying.stages import Stage
from tamarack.core.carrying.trace import Entry, Vouched, as_data, metered, run_traced, shown_headers
from tamarack.core.identity.directory import Directory
from tamarack.core.identity.material import Material
from tamarack.core.trying.ticket import LIVES_S, Ticket, read_ticket

MOST_NONCES = 10_000

Keep = Callable[[dict[str, Any]], None]


class Tracing:
    """The trace of one call while it is carried."""

    __slots__ = ("entries", "headers", "sampled", "ticket", "vouched")

    def __init__(self, ticket: Ticket | None, vouched: Vouched | None, sampled: bool) -> None:
        self.ticket = ticket
        self.vouched = vouched
        self.sampled = sampled
        self.entries: list[Entry] = []
        self.headers: list[tuple[str, str]] = []

    def metered(self, call: Call, refusal: Refusal | None, us: float) -> None:
        """Note what limits said that were counted elsewhere."""
        self.entries += metered(call, refusal, us)

    def run(self, call: Call) -> Refusal | None:
        """Run the call's steps, traced."""
        self.headers = shown_headers(call.headers, call.operation.secret)
        refusal, self.entries = run_traced(call, perf_counter_ns, self.vouched)
        return refusal


class Tracer:
    """One for a node. `keep` takes finished traces."""

    def __init__(self, material: Material, directory: Directory, environment: str, key: bytes, keep: Keep) -> None:
        self._tracing = material.tracing
        self._directory = directory
        self._environment = environment
        self.key = key
        """What the console seals its tickets and requests with."""
        self._keep = keep
        self._nonces: OrderedDict[str, float] = OrderedDict()
        self._draw = random.Random()  # noqa: S311 - chooses which calls are traced

    def begin(self, ticket_value: bytes, now: float) -> Tracing | None:
        """How a call is traced; None where it is not."""
        ticket = self._ticket(ticket_value, now) if ticket_value else None
        if ticket is not None:
            found = self._directory.application(ticket.application) if ticket.application else None
            vouched = Vouched(found, ticket.claims, ticket.by) if found is not None else None
            return Tracing(ticket, vouched, True)
        tracing = self._tracing
        if not tracing.active(now):
            return None
        return Tracing(None, None, tracing.share > 0 and self._draw.random() < tracing.share)

    def _ticket(self, value: bytes, now: float) -> Ticket | None:
        ticket = read_ticket(value, self.key, self._environment, now)
        if ticket is None or ticket.nonce in self._nonces:
            return None
        self._nonces[ticket.nonce] = now
        while self._nonces and (
            len(self._nonces) > MOST_NONCES or next(iter(self._nonces.values())) < now - 3 * LIVES_S
        ):
            self._nonces.popitem(last=False)
        return ticket

    def finish(
        self,
        trace: Tracing,
        call: Call | None,
        call_id: str,
        now: float,
        refusal: Refusal | None,
        status: int,
        target: str,
        backend_us: int,
        total_us: int,
        answer: list[Header],
    ) -> None:
        """Keep a trace, where it is wanted."""
        caller = call.caller if call is not None else None
        if not trace.sampled:
            until = self._tracing.watched.get(caller.application_id, 0) if caller is not None else 0
            if until <= now:
                return
        entries = list(trace.entries)
        secret = call.operation.secret if call is not None else frozenset[str]()
        if target:
            verdict = "refused" if refusal is not None else "done"
            text = refusal.reason.title if refusal is not None else f"answered {status}"
            entries.append(
                Entry(Stage.FORWARD.value, call.operation.backend if call is not None else "", verdict, "", "backend",
                      text, [("target", target)], us=backend_us)
            )  # fmt: skip
            own_us = max(0, total_us - backend_us - sum(entry.us for entry in trace.entries))
            entries.append(
                Entry(Stage.RETURN.value, "Answer", "done", "", "built in", f"{status} to the caller",
                      shown_headers(answer, secret), us=own_us)
            )  # fmt: skip
        self._keep(
            {
                "call": call_id,
                "at": now,
                "environment": self._environment,
                "application": f"{caller.organization}/{caller.application}" if caller is not None else "",
                "by": trace.ticket.by if trace.ticket is not None else "",
                "operation": f"{call.operation.api} {call.operation.version}, {call.operation.name}" if call else "",
                "status": status,
                "reason": refusal.reason.code if refusal is not None else "",
                "note": refusal.note if refusal is not None else "",
                "headers": trace.headers,
                "entries": as_data(entries),
                "total_us": total_us,
            }
        )
