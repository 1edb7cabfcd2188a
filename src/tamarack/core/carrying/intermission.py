"""The step of a version that is out for a while on purpose: its calls are answered 410 until then."""

from collections.abc import Sequence
from math import ceil
from typing import NamedTuple

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Step
from tamarack.core.carrying.refusals import REASONS, Refusal

_REASON = REASONS["brown-out"]


class Intermission(NamedTuple):
    """A stretch in seconds since the epoch, and what callers are told in it."""

    start: float
    end: float
    detail: str


def out_for_now(stretches: Sequence[Intermission]) -> Step:
    """The step that refuses while one of some stretches lasts, and says when it is over (RFC 9110, 10.2.3)."""

    def step(call: Call) -> Refusal | None:
        now = call.now
        for start, end, detail in stretches:
            if start <= now < end:
                after = (b"retry-after", b"%d" % ceil(end - now))
                return Refusal(_REASON, (after,), note="a brown-out of this version", detail=detail)
        return None

    return step
