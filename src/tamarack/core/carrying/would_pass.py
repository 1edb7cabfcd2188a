"""Would this call pass? The gateway's own steps, run on a call that is not made.

The pages that explain use this, so that they say what a node would do, by the same code.
"""

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from typing import Any

from tamarack.core.carrying.call import Call, Header
from tamarack.core.carrying.pipeline import CompiledOperation, compile_router
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.carrying.routing import BadPath
from tamarack.core.carrying.trace import Entry, Vouched, metered, run_traced
from tamarack.core.configuration.model import Configuration
from tamarack.core.configuration.snapshot import compile_snapshot
from tamarack.core.identity.callers import CallerDirectory
from tamarack.core.identity.material import Material, nothing_sealed
from tamarack.core.limits.memory import MemoryCounters

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
) -> Outcome:
    """What a node of an environment would decide over a call of an application (its id; empty for nobody)."""
    snapshot = compile_snapshot(configuration, environment)
    directory = CallerDirectory(b"", environment)
    directory.set_products(snapshot.products)
    for kind, key, body in feed:
        directory.apply(kind, key, body)
    material = Material(environment, nothing_sealed)
    counters = MemoryCounters()
    router = compile_router(snapshot, directory, counters, material)
    try:
        found = router.find(method, path)
    except BadPath:
        return Outcome(Refusal(REASONS["bad-path"]))
    if not isinstance(found, CompiledOperation):
        return Outcome(Refusal(REASONS["unknown-path" if found is None else "wrong-method"]))
    caller = directory.application(application) if application else None
    vouched = Vouched(caller, claims) if caller is not None else None
    call = Call(method, path, b"", list(headers or ()), address, now, found)
    refusal, entries = run_traced(call, clock_ns, vouched)
    meter = found.meter
    if refusal is None and meter is not None:  # a call that may have to wait is metered after the steps
        asked = meter.asked(call)
        refusal = meter.settle(call, asked, counters.take(asked, now, meter.cost)) if asked else None
        entries += metered(call, refusal, 0.0)
    return Outcome(refusal, entries)
