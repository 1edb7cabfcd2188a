"""Metering a call: which limits it asks, and what follows from what a store decided over them."""

from collections.abc import Callable, Mapping, Sequence
from typing import Protocol

from tamarack.core.carrying.call import Call, Grant
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.limits.quota import Quota
from tamarack.core.limits.store import CounterStore, Limiter, Taken, WhenAway

Asked = list[tuple[Limiter, str]]
Key = Callable[[Call], str]


class QuotaLog(Protocol):
    """Takes note of every call that counted against a quota, so that the count outlasts the counters."""

    def add(self, limiter: Limiter, key: str, cost: int) -> None:
        """Note a call's cost."""
        ...


class QuotaMeter:
    """A quota, ready to count: its stretches' limiters, each made when its time comes."""

    __slots__ = ("_bind", "_current", "_id", "_name", "_quota", "_reason", "_when_away")

    def __init__(
        self,
        quota: Quota,
        id: str,
        name: str,
        counters: CounterStore,
        reason: str = "over-quota",
        when_away: WhenAway = "count on the node",
    ) -> None:
        self._quota = quota
        self._id = id
        self._name = name
        self._reason = reason
        self._when_away = when_away
        self._bind = counters.bind
        self._current: Limiter | None = None

    def limiter(self, now: float, grant: Grant | None) -> Limiter:
        """The limiter of the stretch around a moment; a subscription's own, where one is in force."""
        known = self._current if grant is None else grant.stretches.get(self._id)
        if known is not None:
            window = known.windows[0]
            if window.start <= now < window.end:  # type: ignore[union-attr]
                return known
        if grant is None:
            made = self._current = self._make(now, 0.0, (0, 0))
        else:
            made = grant.stretches[self._id] = self._make(now, grant.since, grant.extra)
        return made

    def _make(self, now: float, since: float, extra: tuple[int, int]) -> Limiter:
        stretch = self._quota.stretch(now, since, extra)
        made = Limiter(self._id, self._name, (stretch,), self._reason, self._when_away)
        self._bind(made)
        return made


class PlanMeter:
    """What a plan sets for one operation: its rates, and its quota."""

    __slots__ = ("limiter", "quota")

    def __init__(self, limiter: Limiter | None, quota: QuotaMeter | None) -> None:
        self.limiter = limiter
        self.quota = quota


class Meter:
    """All limits that hold for an operation: the platform's, everyone's, the API's, its own, and the plan's."""

    __slots__ = ("_pairs", "_plans", "_quotas", "cost", "cost_of", "log", "smooth")

    def __init__(
        self,
        pairs: Sequence[tuple[Limiter, Key]],
        plans: Mapping[str, PlanMeter],
        cost: int = 1,
        quotas: Sequence[tuple[QuotaMeter, Key]] = (),
        cost_of: Callable[[Sequence[tuple[bytes, bytes]], bytes | None], int] | None = None,
        log: QuotaLog | None = None,
    ) -> None:
        self.cost = cost
        """How many calls one call counts as, as far as is known when it comes."""
        self.cost_of = cost_of
        """How many it counted as, by its answer: its fields, and its body where it is at hand. 0 for not said."""
        self.smooth = tuple(limiter for limiter, _ in pairs if limiter.hold_us)
        """The limiters that let calls wait for their turn."""
        self.log = log
        self._pairs = tuple(pairs)
        self._quotas = tuple(quotas)
        self._plans = plans

    def asked(self, call: Call) -> Asked:
        """The limiters of a call, each with the key that it counts for."""
        asked: Asked = [(limiter, key(call)) for limiter, key in self._pairs]
        grant = call.grant
        for quota, key in self._quotas:
            asked.append((quota.limiter(call.now, grant), key(call)))
        if grant is not None:
            plan = self._plans.get(grant.plan)
            if plan is not None:
                if plan.limiter is not None:
                    asked.append((plan.limiter, grant.subscription))
                if plan.quota is not None:
                    asked.append((plan.quota.limiter(call.now, grant), grant.quota_key))
        return asked

    def settle(self, call: Call, asked: Asked, taken: Taken) -> Refusal | None:
        """What follows from a decision: the call goes on with it, or is refused."""
        call.taken = taken
        if taken.admitted:
            call.asked = asked
            if self.log is not None:
                self._note(asked, self.cost)
            return None
        return Refusal(
            REASONS[taken.limiter.reason],
            ((b"retry-after", b"%d" % taken.reset),),
            taken.limiter.name,
            f"{taken.window} used up",
        )

    def note_more(self, asked: Asked, cost: int) -> None:
        """Take note of a cost that was known only afterwards."""
        if self.log is not None:
            self._note(asked, cost)

    def _note(self, asked: Asked, cost: int) -> None:
        log = self.log
        for limiter, key in asked:
            if limiter.is_quota:
                log.add(limiter, key, cost)  # type: ignore[union-attr]
