"""Calls run through the programs of a configuration on the scripted driver: decided over, and going nowhere."""

from __future__ import annotations

from typing import Any

from tamarack.core.carrying.assembly import Workshop, assemble
from tamarack.core.carrying.call import Call
from tamarack.core.carrying.forwarding import Passed
from tamarack.core.carrying.parts import Reply
from tamarack.core.carrying.program import Operation
from tamarack.core.carrying.refusals import Refusal
from tamarack.core.configuration.model import Configuration
from tamarack.core.configuration.snapshot import compile_snapshot
from tamarack.core.http.fields import Header
from tamarack.core.http.heads import HeadFields
from tamarack.core.identity.directory import Directory
from tamarack.core.identity.material import Material
from tamarack.core.limits.memory import MemoryCounters
from tamarack.core.policies.identify.places import FORM
from tamarack.core.told.scripted import ScriptedDriver
from tamarack.core.told.trace import Entry, Trace, Vouched

NOW = 1_700_000_000.0


class Bed:
    """A configuration's programs, with counters of their own."""

    def __init__(
        self,
        made: Configuration,
        known: Directory,
        held: Material,
        closed_at: Any = None,
        documents: Any = None,
        **changes: Any,
    ) -> None:
        self.counters = MemoryCounters()
        shop = Workshop(known, held, self.counters, "production", **changes)
        given = documents or (lambda sha256: {})
        self.router = assemble(compile_snapshot(made, "production", given, closed_at), shop)

    def operation(self, method: str, path: bytes) -> Operation:
        found = self.router.find(method, path)
        assert isinstance(found, Operation)
        return found

    def call(
        self,
        method: str,
        path: bytes,
        query: bytes = b"",
        headers: list[Header] | None = None,
        address: str = "192.0.2.1",
        now: float = NOW,
        form: bytes | None = None,
    ) -> Call:
        """A call whose head was read, ready to run."""
        call = Call(b"c1", now, 0, address)
        call.method, call.path, call.query, call.headers = method, path, query, list(headers or ())
        call.head_fields = HeadFields(call.headers)
        call.media = call.head_fields.media
        if form is not None:
            call.length, call.media = len(form), FORM
        call.operation = self.operation(method, path)
        self.takes(call, form or b"")
        return call

    def takes(self, call: Call, body: bytes = b"") -> None:
        """A call is to be run here, and its caller sends this."""
        if len(_MADE) >= MOST_MADE:
            del _MADE[next(iter(_MADE))]
        _MADE[id(call)] = (call, self, body)


MOST_MADE = 10_000
_MADE: dict[int, tuple[Call, Bed, bytes]] = {}
"""The calls made last, by identity: each with where it is run, and the body that its caller sends."""


def sends(call: Call, body: bytes) -> None:
    """Let the caller of a call send a body."""
    call.length = len(body)
    _MADE[id(call)][1].takes(call, body)


def carry(call: Call, **script: Any) -> Refusal | Reply | Passed:
    """Run a call to its end."""
    made, bed, body = _MADE[id(call)]
    assert made is call and isinstance(call.operation, Operation)
    return ScriptedDriver(bed.counters, **script).carry(call, call.operation, body)


def run(call: Call) -> Refusal | None:
    """The refusal of a call; None where it passes."""
    outcome = carry(call)
    return outcome if isinstance(outcome, Refusal) else None


def run_traced(call: Call, clock_ns: Any, vouched: Vouched | None = None) -> tuple[Refusal | None, list[Entry]]:
    """The same, and what each policy did."""
    trace = call.trace = Trace(clock_ns, vouched)
    refusal = run(call)
    assert isinstance(call.operation, Operation)
    return refusal, [*trace.entries, *trace.not_reached(call.operation.named)]
