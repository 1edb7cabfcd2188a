"""The story of one recorded call: what happened to it, in order, in plain sentences."""

from typing import Any, Protocol

from tamarack.core.carrying.refusals import REASONS
from tamarack.core.checking.misfit import MISFITS
from tamarack.core.traffic.record import CALLER_GONE


class Recorded(Protocol):
    """The fields of a record that a story is told from."""

    method: str
    path: str
    status: int
    reason: str
    environment: str
    node: str
    rollout: int
    api: str
    version: str
    operation: str
    application: str
    organization: str
    plan: str
    address: str
    target: str
    total_us: int
    backend_us: int
    held_us: int
    mark: str
    note: str


def story(call: Recorded, by: str = "", trace: dict[str, Any] | None = None) -> list[str]:
    """What happened to a call. `by` says what refused it, as `core.told.refused_by` words it; a trace, where one was
    kept, says in its place what the policy saw."""
    who = f"{call.application} of {call.organization}" if call.application else "Someone who was not identified"
    sentences = [
        f"{who} called `{call.method} {call.path}` from {call.address or 'an address that is not known'}; the node"
        f" {call.node} took it in {call.environment}, running rollout {call.rollout}."
    ]
    if trace is not None and trace.get("by"):
        sentences.append(f"The call was sent from the bench by {trace['by']}.")
    if call.operation:
        sentences.append(f"It asked for `{call.operation}` of {call.api} {call.version}.")
    if call.held_us:
        sentences.append(f"It was held for {call.held_us / 1000:.0f} ms, until its turn came under a limit.")
    if call.mark:
        sentences.append(f"It was let through beyond its quota, and marked (`{call.mark}`).")
    reason = REASONS.get(call.reason)
    if reason is not None:
        decided = next((one for one in (trace or {}).get("entries", []) if one["verdict"] == "refused"), None)
        if decided is not None and decided.get("policy"):
            where = decided["placement"] or "built in"
            said = f": {decided['text']}" if decided.get("text") else ""
            sentences.append(f"{decided['title']} (`{decided['policy']}`, placed on {where}) refused it{said}.")
        elif by:
            sentences.append(f"{by} refused it{': ' + call.note if call.note else ''}.")
        elif call.note:
            sentences.append(f"{'It went wrong' if call.target else 'It was refused'}: {call.note}.")
        asked = "" if call.target else " The backend was not asked."
        sentences.append(f"It was answered {call.status}, {reason.title.lower()} (`{reason.code}`).{asked}")
    elif call.status == CALLER_GONE:
        sentences.append("The caller went away before it was answered.")
    if reason is None and call.note.startswith(MISFITS):
        sentences.append(f"Its description does not know all of it: {call.note.partition(': ')[2]}.")
    if call.target and reason is None:
        plan = f" under the plan {call.plan}" if call.plan else ""
        sentences.append(f"It passed every policy{plan} and went on to {call.target}.")
        if call.status != CALLER_GONE:
            sentences.append(
                f"The backend answered {call.status} after {call.backend_us / 1000:.1f} ms; the gateway itself took"
                f" {max(0, call.total_us - call.backend_us - call.held_us) / 1000:.2f} ms."
            )
    return sentences
