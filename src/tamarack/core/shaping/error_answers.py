"""On error: what is told in the place of a problem, where a policy says so."""

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Reply
from tamarack.core.carrying.refusals import Refusal


def in_place_of(told: Reply, refusal: Refusal, call: Call) -> Reply:
    """The answer of the first policy of the operation that is for this refusal; else what would be told."""
    operation = call.operation
    for named, part in operation.errors if operation is not None else ():
        reply: Reply | None = part.answer(call, refusal, told)
        if reply is not None:
            if call.trace is not None:
                call.trace.erred(named, refusal, reply)
            return reply
    return told
