"""Metering a call: which limits it asks, and what follows from what a store decided over them."""

from collections.abc import Callable, Sequence

from tamarack.core.call import Call
from tamarack.core.limits.store import Limiter, Taken
from tamarack.core.refusals import REASONS, Refusal

Asked = list[tuple[Limiter, str]]


class Meter:
    """All limits that hold for an operation: its own, the API's, everyone's, and the plan's; decided at once."""

    __slots__ = ("_limiter_of", "_pairs", "cost")

    def __init__(
        self,
        pairs: Sequence[tuple[Limiter, Callable[[Call], str]]],
        limiter_of: Callable[[str], Limiter | None],
        cost: int = 1,
    ) -> None:
        self.cost = cost
        """How many calls one call counts as."""
        self._pairs = tuple(pairs)
        self._limiter_of = limiter_of

    def asked(self, call: Call) -> Asked:
        """The limiters of a call, each with the key that it counts for."""
        asked: Asked = [(limiter, key(call)) for limiter, key in self._pairs]
        grant = call.grant
        if grant is not None:
            limiter = self._limiter_of(grant.plan)
            if limiter is not None:
                asked.append((limiter, grant.subscription))
        return asked

    def settle(self, call: Call, taken: Taken) -> Refusal | None:
        """What follows from a decision: the call goes on with it, or is refused."""
        call.taken = taken
        if taken.admitted:
            return None
        return Refusal(
            REASONS[taken.limiter.reason],
            ((b"retry-after", b"%d" % taken.reset),),
            taken.limiter.name,
            f"{taken.window} used up",
        )
