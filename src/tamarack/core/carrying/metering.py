"""Metering a call: which limits it asks, and what follows from what a store decided over them."""

from collections.abc import Callable, Mapping, Sequence
from typing import Protocol

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.identity.caller import Grant
from tamarack.core.limits.quota import Quota
from tamarack.core.limits.store import Asked, CounterStore, Limiter, Taken, Unit, WhenAway

Key = Callable[[Call], str]


class QuotaLog(Protocol):
    """Takes note of every call that counted against a quota, so that the count outlasts the counters."""

    def add(self, limiter: Limiter, key: str, cost: int) -> None:
        """Note a call's cost."""
        ...


class QuotaMeter:
    """A quota, ready to count: its stretches' limiters, each made when its time comes."""

    __slots__ = ("_bind", "_current", "_id", "_name", "_reason", "_when_away", "quota")

    def __init__(
        self,
        quota: Quota,
        id: str,
        name: str,
        counters: CounterStore,
        reason: str = "over-quota",
        when_away: WhenAway = "count on the node",
    ) -> None:
        self.quota = quota
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
        stretch = self.quota.stretch(now, since, extra)
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

    __slots__ = ("_pairs", "_quotas", "cost", "limiters", "log", "plans", "smooth", "trial")

    def __init__(
        self,
        pairs: Sequence[tuple[Limiter, Key]],
        plans: Mapping[str, PlanMeter],
        cost: int = 1,
        quotas: Sequence[tuple[QuotaMeter, Key]] = (),
        log: QuotaLog | None = None,
        trial: tuple[Limiter, Key] | None = None,
    ) -> None:
        self.trial = trial
        """What calls without a subscription count against, where they may be made."""
        self.cost = cost
        """How many calls one call counts as, as far as is known when it comes."""
        self.limiters = tuple(limiter for limiter, _ in pairs)
        """The limiters that every call asks."""
        self.plans = plans
        """What each plan adds, by its name."""
        self.smooth = tuple(limiter for limiter in self.limiters if limiter.hold_us)
        """The limiters that let calls wait for their turn."""
        self.log = log
        self._pairs = tuple((limiter, key, self._cost_of(limiter.unit)) for limiter, key in pairs)
        self._quotas = tuple(quotas)

    def _cost_of(self, unit: Unit) -> int:
        """What a call counts when it comes: itself, and of tokens none, for its answer tells them."""
        return self.cost if unit == "calls" else 0

    def asked(self, call: Call) -> list[tuple[Limiter, str, int]]:
        """The limiters of a call, each with the key that it counts for and what it counts."""
        asked = []
        for limiter, key, cost in self._pairs:
            asked.append((limiter, key(call), cost))
        grant = call.grant
        if self._quotas:
            for quota, key in self._quotas:
                asked.append((quota.limiter(call.now, grant), key(call), self.cost))
        if grant is not None:
            plan = self.plans.get(grant.plan)
            if plan is not None:
                if plan.limiter is not None:
                    asked.append((plan.limiter, grant.subscription, self._cost_of(plan.limiter.unit)))
                if plan.quota is not None:
                    asked.append((plan.quota.limiter(call.now, grant), grant.quota_key, self.cost))
        elif self.trial is not None:
            limiter, key = self.trial
            asked.append((limiter, key(call), self._cost_of(limiter.unit)))
        return asked

    def settle(self, call: Call, taken: Taken) -> Refusal | None:
        """What follows from a decision over `call.asked`: the call goes on with it, or is refused."""
        call.taken = taken
        if taken.admitted:
            if self.log is not None:
                self._note(call.asked)
            return None
        call.asked = ()
        reason, name, window = REASONS[taken.limiter.reason], taken.limiter.name, str(taken.window)
        told = f"The limit {name!r}, {window}, is used up; Retry-After says when to call again."
        return Refusal(
            reason,
            ((b"retry-after", b"%d" % taken.reset),),
            name,
            f"{window} used up",
            told if reason.by == "caller" else "",
        )

    def owed(self, call: Call) -> list[tuple[Limiter, str, int]]:
        """What a call still has to count once its answer has told its cost and its tokens: nothing, mostly.

        It is noted in the log of quotas by this, so it has to be counted.
        """
        by_unit = {"calls": call.cost - self.cost, "tokens": call.prompt_tokens + call.completion_tokens}
        owed = [(limiter, key, more) for limiter, key, _ in call.asked if (more := by_unit[limiter.unit]) > 0]
        if owed and self.log is not None:
            self._note(owed)
        return owed

    def _note(self, asked: Asked) -> None:
        log = self.log
        for limiter, key, cost in asked:
            if limiter.is_quota:
                log.add(limiter, key, cost)  # type: ignore[union-attr]
