"""Metering a call: which limits it asks, and what follows from what a store decided over them."""

from collections.abc import Callable, Mapping, Sequence
from typing import Any, Protocol

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.identity.caller import Grant
from tamarack.core.limits.quota import Quota
from tamarack.core.limits.store import Asked, CounterStore, Limiter, Taken, WhenAway
from tamarack.core.traffic.record import CALLER_GONE

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
            extra = grant.extra if self.quota.unit == "calls" else (0, 0)  # what is granted on top are calls
            made = grant.stretches[self._id] = self._make(now, grant.since, extra)
        return made

    def _make(self, now: float, since: float, extra: tuple[int, int]) -> Limiter:
        stretch = self.quota.stretch(now, since, extra)
        made = Limiter(self._id, self._name, (stretch,), self._reason, self._when_away, unit=self.quota.unit)
        self._bind(made)
        return made


class PlanMeter:
    """What a plan sets for one operation: its rates, its quota, and its budget of tokens."""

    __slots__ = ("budget", "limiter", "quota")

    def __init__(self, limiter: Limiter | None, quota: QuotaMeter | None, budget: QuotaMeter | None = None) -> None:
        self.limiter = limiter
        self.quota = quota
        self.budget = budget


class Meter:
    """All limits that hold for an operation: the platform's, everyone's, the API's, its own, and the plan's."""

    __slots__ = (
        "_budgets",
        "_pairs",
        "_quotas",
        "_some",
        "_tokens",
        "cost",
        "cost_of",
        "limiters",
        "log",
        "plans",
        "reserves",
        "smooth",
        "trial",
    )

    def __init__(
        self,
        pairs: Sequence[tuple[Limiter, Key]],
        plans: Mapping[str, PlanMeter],
        cost: int = 1,
        quotas: Sequence[tuple[QuotaMeter, Key]] = (),
        log: QuotaLog | None = None,
        trial: tuple[Limiter, Key] | None = None,
        cost_of: Callable[[Call], int] | None = None,
        some: Sequence[tuple[Any, Key, Callable[[Call], bool]]] = (),
    ) -> None:
        self._some = tuple(some)
        """The limiters and quotas that count some calls alone."""
        self.cost_of = cost_of
        """What one call counts as, where calls differ in that."""
        self.trial = trial
        """What calls without a subscription count against, where they may be made."""
        self.cost = cost
        """How many calls one call counts as, as far as is known when it comes."""
        self.limiters = tuple(limiter for limiter, _ in pairs)
        """The limiters that every call asks."""
        self.plans = plans
        """What each plan adds, by its name."""
        every = (*self.limiters, *(one for one, _, _ in some if isinstance(one, Limiter)))
        self.smooth = tuple(limiter for limiter in every if limiter.hold_us)
        """The limiters that let calls wait for their turn."""
        self.log = log
        self._pairs = tuple(pair for pair in pairs if pair[0].counts_calls)
        self._tokens = tuple(pair for pair in pairs if not pair[0].counts_calls)
        self._quotas = tuple(pair for pair in quotas if pair[0].quota.unit == "calls")
        self._budgets = tuple(pair for pair in quotas if pair[0].quota.unit != "calls")
        self.reserves = bool(self._tokens or self._budgets or any(plan.budget for plan in plans.values()))
        """Whether calls reserve tokens, which are settled when they end."""

    def asked(self, call: Call) -> list[tuple[Limiter, str, int]]:
        """The limiters of a call, each with the key that it counts for and what it counts: itself, and the tokens that
        it reserves."""
        asked = []
        for limiter, key in self._pairs:
            asked.append((limiter, key(call), self.cost))
        grant = call.grant
        if self._quotas:
            for quota, key in self._quotas:
                asked.append((quota.limiter(call.now, grant), key(call), self.cost))
        if grant is not None:
            plan = self.plans.get(grant.plan)
            if plan is not None:
                if plan.limiter is not None:
                    asked.append((plan.limiter, grant.subscription, self.cost))
                if plan.quota is not None:
                    asked.append((plan.quota.limiter(call.now, grant), grant.quota_key, self.cost))
        elif self.trial is not None:
            limiter, key = self.trial
            asked.append((limiter, key(call), self.cost))
        if self._some:
            for one, key, when in self._some:
                if when(call):
                    limiter = one if type(one) is Limiter else one.limiter(call.now, grant)
                    asked.append((limiter, key(call), self.cost))
        if self.cost_of is not None:
            cost = self.cost_of(call)
            asked = [(limiter, key, _within(limiter, cost)) for limiter, key, _ in asked]
        if self.reserves and call.prompt is not None:
            self._reserve(call, asked)
        return asked

    def _reserve(self, call: Call, asked: list[tuple[Limiter, str, int]]) -> None:
        """Add the limits of tokens, each with what the call reserves of it."""
        reserves, grant = call.prompt.reserves, call.grant
        for limiter, key in self._tokens:
            asked.append((limiter, key(call), reserves(limiter.unit)))
        for quota, key in self._budgets:
            asked.append((quota.limiter(call.now, grant), key(call), reserves(quota.quota.unit)))
        plan = self.plans.get(grant.plan) if grant is not None else None
        if plan is not None and plan.budget is not None and grant is not None:
            asked.append((plan.budget.limiter(call.now, grant), grant.quota_key, reserves(plan.budget.quota.unit)))

    def too_much(self, call: Call) -> Refusal | None:
        """The refusal of a call that alone asks for more tokens than a limit ever lets through. What is only guessed of
        its answer does not count against it: it is brought down to what the limit has."""
        prompt, asked = call.prompt, []
        for one in call.asked:
            limiter, key, cost = one
            if not limiter.counts_calls:
                most = min(window.quota for window in limiter.windows)
                if prompt.at_least(limiter.unit) > most and not limiter.is_soft:
                    return _too_many(limiter, prompt, most)
                one = (limiter, key, min(cost, most))
            asked.append(one)
        call.asked = asked
        return None

    def settle(self, call: Call, taken: Taken) -> Refusal | None:
        """What follows from a decision over `call.asked`: the call goes on with it, or is refused."""
        call.taken = taken
        if taken.admitted:
            if self.log is not None:
                self._note(call.asked)
            return None
        reason, name, window = REASONS[taken.limiter.reason], taken.limiter.name, taken.limiter.said(taken.window)
        called = f"{name!r}{_on_field(taken.limiter)}"
        told = f"The limit {called}, {window}, is used up; Retry-After says when to call again."
        if not taken.limiter.counts_calls:
            many = next((cost for limiter, _, cost in call.asked if limiter is taken.limiter), 0)
            told = (
                f"The limit {called}, {window}, has too little left for this call, which counts as {many} until its"
                " answer is there; Retry-After says when to call again."
            )
        call.asked = ()
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
        more = call.cost - (self.cost if self.cost_of is None else self.cost_of(call))
        owed = [(limiter, key, more) for limiter, key, _ in call.asked if limiter.counts_calls] if more > 0 else []
        if owed and self.log is not None:
            self._note(owed)
        if self.reserves and call.prompt is not None:
            self._settle_tokens(call, owed)
        return owed

    def _settle_tokens(self, call: Call, owed: list[tuple[Limiter, str, int]]) -> None:
        """Add what a call used beyond what it reserved, or below 0 what it did not use. One whose caller went away
        while a target worked on it has used what it reserved, as far as anyone knows."""
        lost = not call.prompt.settled and bool(call.target) and call.status == CALLER_GONE
        for limiter, key, reserved in call.asked:
            if limiter.counts_calls:
                continue
            used = reserved if lost else _used(call, limiter.unit)
            if used != reserved:
                owed.append((limiter, key, used - reserved))
            if used and limiter.is_quota and self.log is not None:
                self.log.add(limiter, key, used)

    def _note(self, asked: Asked) -> None:
        log = self.log
        for limiter, key, cost in asked:
            if limiter.is_quota and limiter.counts_calls:
                log.add(limiter, key, cost)  # type: ignore[union-attr]


def _within(limiter: Limiter, cost: int) -> int:
    """A cost under one limit: at most what that ever lets through at once."""
    return min(cost, *(window.quota for window in limiter.windows))


def _used(call: Call, unit: str) -> int:
    """What a call took, in a unit of tokens."""
    if unit == "tokens":
        return call.prompt_tokens + call.completion_tokens
    return call.prompt_tokens if unit == "prompt tokens" else call.completion_tokens


def _on_field(limiter: Limiter) -> str:
    """Which field of a graph a limit stands on, in words; empty for one that holds for whole calls."""
    _, stands, rest = limiter.id.partition("/field ")
    return f" on {rest.rpartition('/')[0]}" if stands else ""


def _too_many(limiter: Limiter, prompt: Any, most: int) -> Refusal:
    asks = f"about {prompt.tokens} in the prompt" if limiter.unit != "completion tokens" else ""
    bound = prompt.bound * prompt.answers
    if bound and limiter.unit != "prompt tokens":
        asks = f"{asks} and up to {bound} in the answer" if asks else f"up to {bound} in the answer"
    mend = "ask for a shorter answer or send a shorter prompt" if bound else "send a shorter prompt"
    window = min(limiter.windows, key=lambda window: window.quota)
    told = (
        f"The call asks for {asks}, and the limit {limiter.name!r} lets through {limiter.said(window)} in all; {mend}."
    )
    return Refusal(REASONS["too-many-tokens"], (), limiter.name, f"{asks} of {most}", told)
