"""An operation's whole program, as text: what runs in which order, where it comes from, and what it needs."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from typing import Any

from tamarack.core.balancing.route import Choice
from tamarack.core.balancing.routes import route_to
from tamarack.core.balancing.target_state import TargetStates
from tamarack.core.carrying.assembly import Workshop, assemble
from tamarack.core.carrying.metering import Meter
from tamarack.core.carrying.parts import Part
from tamarack.core.carrying.program import Operation
from tamarack.core.carrying.routing import VersionChoice
from tamarack.core.configuration.model import Configuration
from tamarack.core.configuration.snapshot import compile_snapshot
from tamarack.core.http.paths import settle_path
from tamarack.core.identity.callers import CallerDirectory
from tamarack.core.identity.material import Material, nothing_sealed
from tamarack.core.limits.memory import MemoryCounters
from tamarack.core.stages import PURPOSE, Stage
from tamarack.core.told.trace import is_own, where_of


def shown_path(operation: Operation) -> list[str]:
    """Lines that draw the program, from the call's arrival to the answer's end."""
    lines = [f"{operation.api} {operation.version}, {operation.name}", f"body: at most {operation.body_limit:,} bytes"]
    for stage in Stage:
        inside = _inside(operation, stage)
        lines.append(f"{stage.label:<9}{'' if inside else '-  '}{'' if inside else PURPOSE[stage].lower()}".rstrip())
        lines += [f"    {line}" for line in inside]
    return lines


def _inside(operation: Operation, stage: Stage) -> list[str]:
    found = []
    if operation.reads and stage is Stage.IDENTIFY:
        reads = ", ".join(f"{media.decode() or 'any type'} up to {most:,} bytes" for media, most in operation.reads)
        found.append(f"reads the body ahead: {reads}")
    for named in operation.named:
        if named.stage is stage:
            found += [_named(told.title, told.name, told.placement, told.part) for told in named.told]
    if stage is Stage.METER and operation.meter is not None:
        meter = operation.meter
        held = f", holding calls under {', '.join(one.name for one in meter.smooth)}" if meter.smooth else ""
        found += _limits_beside(operation, meter)
        found.append(f"asks all that hold for the caller at once; a call counts as {meter.cost}{held}")
        found += ["watches the answer for what it tells of cost and tokens"] if operation.watches else []
    if stage is Stage.FORWARD and operation.route is not None:
        targets = ", ".join(_target(choice) for choice in operation.route.choices) or "none"
        signs = ", signing in with a secret" if operation.route.sign_in is not None else ""
        found.append(f"{operation.backend}: {targets}{signs}")
    if stage is Stage.ON_ERROR:
        found += [_named(told.title, told.name, told.placement, told.part) for told, _ in operation.errors]
    if stage is Stage.RETURN:
        found += [_named(told.title, told.name, told.placement, told.part) for told, _ in operation.changes]
        if operation.reads_answer:
            found.append(f"holds answers of up to {operation.reads_answer:,} bytes until they are whole")
        for _, most in operation.reads_some_answers:
            found.append(f"holds answers of up to {most:,} bytes where something of them is withheld")
    return found


def _target(choice: Choice) -> str:
    said = [f"priority {choice.priority}"] if choice.priority else []
    said += [f"weight {choice.weight}"] if choice.weight > 1 else []
    said += [f"{choice.capacity.rules.tokens:,} tokens a minute"] if choice.capacity is not None else []
    said += [f"models {', '.join(choice.models)}"] if choice.models is not None else []
    said += ["with a secret of its own"] if choice.sign_in is not None else []
    if choice.state is not None and choice.state.breaker is not None:
        said.append("with a breaker")
    return choice.target.label + (f" ({', '.join(said)})" if said else "")


def _limits_beside(operation: Operation, meter: Meter) -> list[str]:
    """The limits that are no policies: the environment's cap, and what each plan sets."""
    told = [one for named in operation.named if named.stage is Stage.METER for one in named.told]
    found = []
    for limiter in meter.limiters:
        if not any(is_own(one, limiter) for one in told):
            title, placement = where_of(limiter)
            found.append(f"{title}, {placement}: {_all(limiter.windows)}")
    for name, plan in sorted(meter.plans.items()):
        says = [_all(plan.limiter.windows)] if plan.limiter is not None else []
        says += [f"a quota of {plan.quota.quota}"] if plan.quota is not None else []
        found.append(f"plan {name}: {'; '.join(says) or 'no limit'}")
    return found


def _all(windows: Sequence[object]) -> str:
    return ", ".join(map(str, windows))


def _named(title: str, name: str, placement: str, part: Part | None) -> str:
    kind = f" ({type(part).__name__.lower()})" if part is not None else ""
    return f"{title}{kind}, {placement}" + (f", named {name}" if name else "")


def operation_of(
    configuration: Configuration, environment: str, api: str, version: str, call: str, clock_ns: Callable[[], int]
) -> Operation:
    """The program that a configuration gives an operation, as a node would have it. Raises LookupError, in words."""
    found = configuration.api(api)
    if found is None:
        named = ", ".join(one.name for one in configuration.apis) or "none"
        raise LookupError(f"there is no API {api!r}; there are {named}")
    within = found.version(version)
    if within is None:
        named = ", ".join(one.version for one in found.versions)
        raise LookupError(f"{api} has no version {version!r}; it has {named}")
    if within.operation(call) is None:
        raise LookupError(f"{api} {version} has no operation {call!r}; write it like {within.operations[0].call!r}")
    snapshot = compile_snapshot(configuration, environment)
    states = TargetStates()
    routes = {backend.name: route_to(backend, states) for backend in snapshot.backends}
    directory = CallerDirectory(b"", environment)
    material = Material(environment, nothing_sealed)
    shop = Workshop(directory, material, MemoryCounters(), environment, clock=clock_ns, routes=routes)
    method, _, path = call.partition(" ")
    router = assemble(snapshot, shop)
    whole = within.base_path + ("" if path == "/" else path)
    placed = settle_path(re.sub(r"[{}*]", "", whole).encode())
    operation: Any = router.find("GET" if method == "any" else method.upper(), placed)
    if isinstance(operation, VersionChoice):
        own = operation.version(version)
        operation = own.find("GET" if method == "any" else method.upper(), placed) if own is not None else None
    if not isinstance(operation, Operation):
        raise LookupError(f"{api} {version} takes no calls; its state is {within.state}")
    return operation
