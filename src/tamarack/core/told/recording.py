"""The record of a call: one row, written from the call by name, in the order of `core.traffic.record.FIELDS`."""

from __future__ import annotations

from typing import Any, Final

from tamarack.core.carrying.call import Call
from tamarack.core.checking.misfit import in_one_line
from tamarack.core.text import one_line
from tamarack.core.traffic.record import LONGEST_AGENT, LONGEST_NOTE, LONGEST_PATH, LONGEST_USER, OVER_QUOTA

_NO_OPERATION: Final = ("", "", "")
_NO_MODEL: Final = ("", "", 0, 0)
_NOTHING_OWN: Final = ("", "", "")


def record_of(call: Call, environment: str, node: str) -> tuple[Any, ...]:
    """A call as it is recorded, however it ended. What callers wrote loses what no database takes."""
    operation, caller, grant, taken, agent = call.operation, call.caller, call.grant, call.taken, call.agent
    prompt = call.prompt
    api, version, named = operation.named_in_records if operation is not None else _NO_OPERATION
    organization = application = credential = subscription = plan = ""
    if caller is not None:
        organization, application, credential = caller.organization, caller.application, caller.credential
    if grant is not None:
        subscription, plan = grant.subscription, grant.plan
    note = ""
    if call.note or call.misfits:
        note = one_line(call.note or in_one_line(call.misfits))[:LONGEST_NOTE]
    row = (
        call.id.decode(),
        int(call.now * 1_000_000),
        call.total_us,
        call.backend_us,
        environment,
        node,
        call.rollout,
        api,
        version,
        named,
        call.method,
        call.path[:LONGEST_PATH].decode("latin-1"),
        call.status,
        call.reason,
        call.received_bytes,
        call.sent_bytes,
        organization,
        application,
        subscription,
        plan,
        credential,
        call.address,
        agent[:LONGEST_AGENT].decode("latin-1"),
        call.target,
        call.held_us,
        OVER_QUOTA if taken is not None and taken.over is not None else "",
        one_line(call.user)[:LONGEST_USER] if call.user else "",
        call.cache,
        call.prompt_tokens,
        call.completion_tokens,
        call.ended_at if operation is not None else (),
        call.policy,
        note,
    )
    graph = call.graph
    if prompt is None and graph is None:
        return (*row, *_NO_MODEL, *call.own) if call.own else row  # the rest are the record's defaults
    of_model = _of_model(prompt, call.status) if prompt is not None else _NO_MODEL
    saved = (prompt.saved_tokens, prompt.saved_us) if prompt is not None else (0, 0)
    of_graph = (one_line(graph.named), graph.depth, graph.cost) if graph is not None else ()
    return (*row, *of_model, *(call.own or _NOTHING_OWN), *saved, *of_graph)


def _of_model(prompt: Any, status: int) -> tuple[str, str, int, int]:
    """The model asked for, where there is one by that name, and the one that answered; cached tokens, and the time to
    the first piece."""
    known = prompt.known or status < 400
    return one_line(prompt.model) if known else "", one_line(prompt.served), prompt.cached_tokens, prompt.first_us
