"""Would this call pass? The gateway's own program, run on a call that is not made.

The pages that explain use this, so that they say what a node would do, by the same code.
"""

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from tamarack.core.carrying.assembly import Workshop, assemble
from tamarack.core.carrying.call import Call
from tamarack.core.carrying.program import Operation
from tamarack.core.carrying.receiving import receive
from tamarack.core.carrying.refusals import Refusal
from tamarack.core.configuration.model import Configuration
from tamarack.core.configuration.snapshot import Documents, compile_snapshot
from tamarack.core.http.fields import Header
from tamarack.core.identity.callers import CallerDirectory
from tamarack.core.identity.material import Material, nothing_sealed
from tamarack.core.limits.memory import MemoryCounters
from tamarack.core.told.scripted import ScriptedDriver
from tamarack.core.told.trace import Entry, Trace, Vouched

FeedItems = Iterable[tuple[str, str, dict[str, Any] | None]]


@dataclass(frozen=True, slots=True)
class Outcome:
    """Whether a call would pass, and what each policy would do with it. Limits are counted from nothing."""

    refusal: Refusal | None
    entries: list[Entry] = field(default_factory=list)

    @property
    def passes(self) -> bool:
        return self.refusal is None


def would_pass(
    configuration: Configuration,
    environment: str,
    feed: FeedItems,
    method: str,
    path: bytes,
    application: str,
    now: float,
    clock_ns: Callable[[], int],
    claims: dict[str, Any] | None = None,
    headers: list[Header] | None = None,
    address: str = "192.0.2.1",
    documents: Documents = lambda sha256: {},
    closed_at: Mapping[tuple[str, str], datetime] | None = None,
) -> Outcome:
    """What a node of an environment would decide over a call of an application (its id; empty for nobody).

    `documents` gives descriptions, for what mocks answer; `closed_at` is when versions were closed to new subscribers.
    """
    snapshot = compile_snapshot(configuration, environment, documents, closed_at)
    directory = CallerDirectory(b"", environment)
    directory.set_products(snapshot.products)
    for kind, key, body in feed:
        directory.apply(kind, key, body)
    counters = MemoryCounters()
    shop = Workshop(directory, Material(environment, nothing_sealed), counters, environment, clock=clock_ns)
    router = assemble(snapshot, shop)
    call = Call(b"", now, clock_ns(), address)
    call.method, call.headers = method, list(headers or ())
    call.path = path
    found = receive(router, call)
    if not isinstance(found, Operation):
        return Outcome(found if isinstance(found, Refusal) else None)
    caller = directory.application(application) if application else None
    trace = call.trace = Trace(clock_ns, Vouched(caller, claims) if caller is not None else None)
    outcome = ScriptedDriver(counters).carry(call, found)
    return Outcome(outcome if isinstance(outcome, Refusal) else None, [*trace.entries, *trace.not_reached(found.named)])
