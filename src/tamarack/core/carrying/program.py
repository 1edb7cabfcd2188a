"""An operation's program: the whole way of a call, put together once at rollout and run for each call.

It is a generator without I/O. It runs until it needs something from outside, yields the need (`core.carrying.needs`),
and goes on with the answer. Who answers is a driver: a node's own, or a scripted one on a virtual clock; both run this
same program, so a page and a node cannot disagree. A traced call runs the same steps, each wrapped when the program was
put together.
"""

from __future__ import annotations

from collections.abc import Callable, Generator, Sequence
from typing import Any, Final

from tamarack.core.balancing.retrying import REPEATABLE, RetryRules, earned, may_ask_again
from tamarack.core.balancing.route import Choice, Route
from tamarack.core.balancing.time_limits import TimeLimits
from tamarack.core.caching.control import date_of
from tamarack.core.caching.kept import split_fields
from tamarack.core.carrying.asking_models import asked_for, filter_of, unknown_model
from tamarack.core.carrying.caching import Caching, Lookup
from tamarack.core.carrying.call import Call, Published, Watching
from tamarack.core.carrying.forwarding import Passed, read_answer, read_shared, request_head
from tamarack.core.carrying.metering import Meter
from tamarack.core.carrying.needs import Ask, Failed, Look, Need, ReadAnswer, ReadBody, Refresh, Take
from tamarack.core.carrying.parts import Answerer, Change, Filtering, Limit, Reply, Watch
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.carrying.steps import Lane, NamedStep, Told
from tamarack.core.http.browser import BrowserRule
from tamarack.core.http.fields import Header
from tamarack.core.http.heads import Answered
from tamarack.core.http.target import Target
from tamarack.core.language_models.near_equal.kept_answers import kept_behind
from tamarack.core.limits.store import Taken
from tamarack.core.stages import Stage
from tamarack.core.traffic.record import MISS, PLACE, STALE

Clock = Callable[[], int]
"""A clock in nanoseconds."""

_METER_ENDED: Final = 1 + PLACE[Stage.METER]
_SHAPE_ENDED: Final = 1 + PLACE[Stage.SHAPE]
_FORWARD_ENDED: Final = 1 + PLACE[Stage.FORWARD]

FAILURES: Final = {
    "away": Refusal(REASONS["backend-away"]),
    "slow": Refusal(REASONS["backend-slow"]),
    "broken": Refusal(REASONS["backend-broken"]),
    "busy": Refusal(REASONS["backend-busy"], ((b"retry-after", b"1"),)),
}
_SECRET_MISSING: Final = Refusal(REASONS["secret-missing"], ((b"retry-after", b"30"),))


Outcome = Refusal | Reply | Passed
"""How a call ends."""
Program = Generator[Need | Outcome, Any, None]
"""Yields needs and goes on with their answers; what it yields last is how the call ends."""
_Part = Generator[Need, Any, Outcome]
"""A part of one, which returns how the call ends."""


class Operation(Published):
    """An operation ready to carry calls."""

    __slots__ = (
        "answerers",
        "browser",
        "cached_by",
        "caching",
        "changes",
        "clock",
        "filters",
        "lane",
        "meter",
        "named",
        "reads",
        "reads_answer",
        "reads_some_answers",
        "retry",
        "route",
        "settles",
        "take",
        "time_limits",
        "traced",
        "watches",
    )

    def __init__(
        self,
        facts: Published,
        named: Sequence[NamedStep],
        lane: Lane,
        traced: Lane,
        *,
        meter: Meter | None = None,
        answerers: Sequence[tuple[Told, Answerer]] = (),
        changes: Sequence[tuple[Told, Change]] = (),
        watches: Sequence[Watch] = (),
        filters: Sequence[Filtering] = (),
        reads: Sequence[tuple[bytes, int]] = (),
        browser: BrowserRule | None = None,
        route: Route | None = None,
        clock: Clock | None = None,
        caching: Caching | None = None,
        cached_by: Told | None = None,
        retry: RetryRules | None = None,
        time_limits: TimeLimits | None = None,
    ) -> None:
        super().__init__(facts.api, facts.version, facts.name, facts.backend, facts.base_path, facts.body_limit,
                         facts.secret, facts.limit_fields, facts.parameters, facts.mocks, facts.ending,
                         facts.errors)  # fmt: skip
        self.named = tuple(named)
        """Every step in order, with its policies: what traces, drawings and `show-path` tell of."""
        self.lane = lane
        self.traced = traced
        """The same steps, each of which tells the call's trace what it did."""
        self.meter = meter
        self.take = Take(meter) if meter is not None else None
        self.answerers = tuple(answerers)
        self.changes = tuple(changes)
        """What changes answers on their way back."""
        self.watches = tuple(watches)
        self.filters = tuple(filters)
        """What changes answers' bodies as they pass."""
        self.reads = tuple(reads)
        """The media types (empty for any) whose bodies are read ahead, and the most bytes of each."""
        self.caching = caching
        self.cached_by = cached_by
        """The policy that says what is kept."""
        self.retry = retry
        self.time_limits = time_limits
        self.settles = bool(watches) or caching is not None or (meter is not None and meter.reserves)
        """Whether something happens when the answer has passed: limits count what it told, or it is kept."""
        always = (change.answer_body for _, change in self.changes if change.wanted is None)
        self.reads_answer = max(always, default=0)
        self.reads_some_answers = [(one.wanted, one.answer_body) for _, one in self.changes if one.wanted is not None]
        self.browser = browser
        self.route = route
        """None where calls are only decided over, and go nowhere."""
        self.clock = clock

    def run(self, call: Call) -> Program:
        """The program of one call. That its end is yielded, and not returned, spares every call an exception."""
        yield (yield from self._carry(call))

    def _carry(self, call: Call) -> _Part:
        lane = self.lane if call.trace is None else self.traced
        for step in lane.first:
            refusal = step(call)
            if refusal is not None:
                return refusal
        if self.reads and call.length:
            media = call.media.lower()
            wanted = max((most for kind, most in self.reads if media.startswith(kind)), default=0)
            if wanted:
                read = yield ReadBody(wanted)
                if type(read) is Refusal:
                    return read
                call.body = read
        refusal = None
        headers, query, body = call.headers, call.query, call.body
        for step in lane.steps:
            refusal = step(call)
            if refusal is not None:
                break
        if refusal is not None:
            if refusal.need is None or not (yield refusal.need):
                return refusal
            call.headers, call.query, call.body = headers, query, body  # the keys are there now: once more
            call.caller = call.grant = call.claims = None
            if call.trace is not None:
                call.trace.begin_again()
            for step in lane.steps:
                refusal = step(call)
                if refusal is not None:
                    return refusal
        clock = self.clock
        meter = self.meter
        if meter is not None:
            call.asked = asked = meter.asked(call)
            if asked:
                if meter.reserves and call.prompt is not None:
                    refusal = meter.too_much(call)
                    if refusal is not None:
                        call.asked = ()
                        return refusal
                taken = yield self.take  # type: ignore[misc]
                if type(taken) is Taken:
                    refusal = meter.settle(call, taken)
                else:
                    call.asked = ()
                    refusal = taken
                if clock is not None:
                    ended_at = call.ended_at
                    ended_at[_METER_ENDED] = clock()
                    if call.trace is not None:
                        began = max(ended_at[:_METER_ENDED])
                        call.trace.metered(call, self.named, refusal, (ended_at[_METER_ENDED] - began) / 1000)
                if refusal is not None:
                    if call.graph is not None:
                        call.graph.documents.not_admitted(call)
                    return refusal
        for step in lane.later:
            refusal = step(call)
            if refusal is not None:
                return refusal
        for told, answerer in self.answerers:
            reply = answerer.answer(call)
            if answerer.asks:
                reply = yield from reply  # type: ignore[misc]
            if call.trace is not None:
                call.trace.replied(told, reply)
            if reply is not None:
                return self._changed(call, reply) if type(reply) is Reply else reply  # type: ignore[return-value]
        route = self.route
        if route is None:
            return _DECIDED
        caching = self.caching
        if caching is None:
            return (yield from self._forward(call, route, None))
        lookup = caching.lookup(call)
        if lookup is not None:
            found = caching.found(call, lookup, (yield Look(lookup)))
            if type(found) is Reply:
                if call.trace is not None:
                    call.trace.looked_up(self.cached_by, call, lookup)
                if lookup.leads and call.cache == STALE:
                    yield from self._refresh(call, route, lookup)
                return self._changed(call, found)
            if type(found) is Refusal:
                return found
            caching.asking(call, lookup)
        if call.trace is not None:
            call.trace.looked_up(self.cached_by, call, lookup)
        return (yield from self._forward(call, route, lookup))

    def _forward(self, call: Call, route: Route, lookup: Lookup | None) -> _Part:
        """Ask a target, and another where that fails and the call may be repeated; and what becomes of the answer."""
        retry = self.retry
        if retry is not None:
            earned(route, retry)
        tried: tuple[Choice, ...] = ()
        body = call.body
        while True:
            choice = route.only or route.choose(call, tried)
            if choice is None:
                refusal = _no_choice(route, call)
                return self._stands_in(call, lookup) or refusal
            if choice.priority != route.choices[0].priority and not tried and not call.note:
                call.note = f"{route.choices[0].target.label} was passed over for one of priority {choice.priority}"
            ask = self._ask(call, route, choice, body)
            if ask is None:
                return self._stands_in(call, lookup) or _SECRET_MISSING
            answer = yield from self._attempt(call, route, choice, ask, not tried)
            if type(answer) is Refusal:
                return answer
            failed = type(answer) is Failed
            again = (
                retry is not None
                and (failed or answer.status in retry.statuses)
                and may_ask_again(call, route, retry, ask, len(tried) + 1)
            ) or (not failed and route.overflows and _goes_on(call, route, (*tried, choice), ask, answer))
            if call.trace is not None:
                call.trace.asked(call, choice, answer, again)
            if not again:
                break
            tried = (*tried, choice)
            call.retried += 1
            call.note = f"asked again: {choice.target.label} {answer.step if failed else f'answered {answer.status}'}"
            body = ask.body
        if failed:
            call.note = answer.step
            return self._stands_in(call, lookup) or self._failure(route, answer, call)
        if lookup is not None:
            reply = lookup.cache.answered(call, lookup, answer, call.now, self._now(call))
            if reply is not None:
                return self._changed(call, reply)
        return (yield from self._return(call, route, choice, answer, lookup))

    def _attempt(self, call: Call, route: Route, choice: Choice, ask: Ask, first: bool) -> Generator[Need, Any, Any]:
        """Ask one target, and tell what chose it what became of that."""
        clock, state = self.clock, choice.state
        call.target = choice.target.label
        if choice.capacity is not None and call.prompt is not None:
            call.prompt.goes_to(choice.capacity, call.now)
        if clock is not None:
            call.asked_at = asked_at = clock()
            if first:
                call.ended_at[_SHAPE_ENDED] = asked_at
        trial = False
        answer: Any = None
        if state is None:
            answer = yield ask
        else:
            trial = state.went()
            try:
                answer = yield ask
            finally:
                state.under_way -= 1
                if answer is None:  # its caller went away
                    state.left(trial)
        now = call.now
        if clock is not None:
            ended_at = call.ended_at
            ended_at[_FORWARD_ENDED] = answered_at = clock()
            call.backend_us = (answered_at - call.asked_at) // 1000
            now += (answered_at - ended_at[0]) / 1e9
        if type(answer) is Answered:
            route.noted(choice, "answered")
            if state is not None:
                status = answer.status
                after = _retry_after(answer, now) if status == 429 or status == 503 else None
                state.noted(now, status, "", trial, after)
        elif type(answer) is Failed:
            route.noted(choice, answer.failure)
            if state is not None:
                if answer.failure == "busy":
                    state.left(trial)
                else:
                    state.noted(now, 0, answer.step, trial)
        elif state is not None:
            state.left(trial)
        return answer

    def _return(self, call: Call, route: Route, choice: Choice, answer: Answered, lookup: Lookup | None) -> _Part:
        """The backend's answer on its way back: changed, watched, and kept."""
        call.answered = True
        headers, status = answer.headers, answer.status
        whole = answer.body
        if self.changes:
            wanted = self.reads_answer
            for wants, most in self.reads_some_answers:
                if most > wanted and wants(call):
                    wanted = most
            if wanted and answer.body is None:
                whole = yield ReadAnswer(wanted)
                if type(whole) is Failed:
                    route.noted(choice, whole.failure)
                    call.note = whole.step
                    return FAILURES[whole.failure]
                answer.body = whole
            refusal = self._change(call, answer)
            if refusal is not None:
                return refusal
        watching: list[Watching] = []
        if self.watches:
            begun = [watch.begin(call, answer.status, answer.headers) for watch in self.watches]
            watching = [one for one in begun if one is not None]
        passed = Passed(answer.status, answer.body)
        if call.prompt is not None or self.filters:
            found = filter_of(call, answer, self.filters)
            if type(found) is Refusal:
                return found
            passed.filter = found  # type: ignore[assignment]
        read_shared(passed, call, choice.target, answer)
        if self.caching is not None:
            self._keep(call, lookup, passed, status, headers, whole, choice.target, watching)
        call.watching = watching
        return passed

    def _stands_in(self, call: Call, lookup: Lookup | None) -> Reply | Refusal | None:
        """What is kept, where it may stand in for an answer that did not come."""
        reply = lookup.cache.failed(call, lookup) if lookup is not None else None
        return self._changed(call, reply) if reply is not None else None

    def _ask(self, call: Call, route: Route, choice: Choice, body: bytes | None) -> Ask | None:
        """The request to a target; None where the gateway's own credential to it is missing."""
        if choice.models is not None and call.prompt is not None and body is not None:
            call.body = body = asked_for(call, choice, body)
        signs_in = None
        sign_in = choice.sign_in or route.sign_in
        if sign_in is not None:
            signs_in = sign_in()
            if signs_in is None:
                return None
        caller = call.caller
        ask = Ask(
            choice.target,
            call.asks_method or call.method,
            request_head(call, self, choice.target, signs_in),
            body,
            caller.application_id if caller is not None else call.address,
        )
        ask.repeatable = call.length == 0 and ask.method in REPEATABLE
        limits = self.time_limits
        if limits is not None:
            ask.limits = limits
            if limits.whole_s and self.clock is not None:
                ask.left_s = max(0.001, limits.whole_s - (self.clock() - call.ended_at[0]) / 1e9)
        return ask

    def _failure(self, route: Route, answer: Failed, call: Call) -> Refusal:
        """How a call ends whose target gave no answer; with how long all are spared, where that is known."""
        refusal = FAILURES[answer.failure]
        now = self._now(call)
        if route.only is not None or any(c.state is None or c.state.lets_through(now) for c in route.choices):
            return refusal
        return Refusal(refusal.reason, ((b"retry-after", b"%d" % route.resting_for(now)),))

    def _now(self, call: Call) -> float:
        """Seconds since the epoch, as the call's own time goes on."""
        return call.now + (self.clock() - call.ended_at[0]) / 1e9 if self.clock is not None else call.now

    def _refresh(self, call: Call, route: Route, lookup: Lookup) -> _Part:
        """What was given was over: the backend is asked anew, beside the call."""
        assert self.caching is not None
        self.caching.asking(call, lookup)
        choice = route.only or route.choose(call)
        ask = self._ask(call, route, choice, call.body) if choice is not None else None
        if ask is not None and choice is not None:
            yield Refresh(call, lookup, ask, route, choice)
        return None  # type: ignore[return-value]

    def _changed(self, call: Call, reply: Reply) -> Reply | Refusal:
        """An answer that is kept, or made here, changed as one of the backend's would be."""
        if not self.changes:
            return reply
        answer = Answered(reply.status, split_fields(reply.fields), reply.body)
        refusal = self._change(call, answer)
        if refusal is not None:
            return refusal
        fields = b"".join(b"%b: %b\r\n" % field for field in answer.headers)
        return Reply(answer.status, fields, answer.body or b"", reply.dated)

    def _keep(
        self,
        call: Call,
        lookup: Lookup | None,
        passed: Passed,
        status: int,
        headers: list[Header],
        body: bytes | None,
        target: Target,
        watching: list[Watching],
    ) -> None:
        """Keep the backend's answer, as it came, where the cache takes it; and say so to the caller (RFC 9211)."""
        caching = self.caching
        assert caching is not None
        keeping = None
        if lookup is None:
            caching.changed(call, status)
        else:
            call.cache = MISS
            fields = passed.fields
            if self.changes:  # it is kept as it came, and changed for each caller
                unchanged = Passed(status, None)
                read_answer(unchanged, call, target, headers)
                fields = unchanged.fields
            keeping = None
            behind = passed.filter is not None  # it is kept as it was filtered, which only prompts' answers are
            if not behind or (lookup.question is not None and not self.changes):
                keeping = caching.keeping(call, lookup, status, headers, fields, call.now, self._now(call))
            if keeping is not None:
                if body is not None and self.changes:
                    keeping.piece(body)
                    keeping.end(True)
                elif behind:
                    passed.filter, ending = kept_behind(passed.filter, keeping)  # type: ignore[arg-type]
                    watching.append(ending)
                else:
                    watching.append(keeping)
            if call.trace is not None:
                call.trace.looked_up(self.cached_by, call, lookup)
        passed.fields += caching.passed(call, lookup, status, keeping is not None)

    def _change(self, call: Call, answer: Answered) -> Refusal | None:
        """Change an answer; a body that was changed has another length."""
        before = answer.body
        for told, change in self.changes:
            was = (answer.headers, answer.body, len(call.misfits))
            refusal = change.answer(call, answer)  # type: ignore[misc]
            if call.trace is not None:
                call.trace.changed(told, call, answer, was, refusal)
            if refusal is not None:
                return refusal
        if answer.body is not None and answer.body is not before:
            answer.headers = [field for field in answer.headers if field[0] != b"content-length"]
        return None

    def settled(self, call: Call, complete: bool) -> Sequence[tuple[Any, str, int]]:
        """The call has ended: what watches found is counted. Returns what limits still have to count."""
        watching, call.watching = call.watching, ()
        for one in watching:
            one.end(complete)
        if call.prompt is not None:
            call.prompt.leaves(call.prompt_tokens + call.completion_tokens, call.now)
        return self.meter.owed(call) if self.meter is not None and call.asked else ()

    @property
    def limits(self) -> list[Limit]:
        """The limits that policies set, in their order."""
        told = (one.part for step in self.named if step.stage is Stage.METER for one in step.told)
        return [part for part in told if isinstance(part, Limit)]


def _no_choice(route: Route, call: Call) -> Refusal:
    """Why no target is asked."""
    if not route.choices:
        return FAILURES["away"]
    prompt = call.prompt
    if prompt is None or not route.asks_models:
        return _resting(route, call.now)
    if not route.offers(prompt.model):
        return unknown_model(prompt.model)
    if all(one.state is None or one.state.lets_through(call.now) for one in route.choices):
        return Refusal(REASONS["capacity-kept"], ((b"retry-after", b"%d" % (60 - int(call.now) % 60)),))
    return _resting(route, call.now)


def _goes_on(call: Call, route: Route, tried: Sequence[Choice], ask: Ask, answer: Answered) -> bool:
    """Whether a call that a target turned away goes on to another: nothing of it was done there."""
    if answer.status != 429 and (answer.status != 503 or _retry_after(answer, call.now) is None):
        return False
    if ask.streamed or (ask.body is None and call.length != 0) or len(tried) >= len(route.choices):
        return False
    following = route.choose(call, tried)
    return following is not None and following not in tried


def _resting(route: Route, now: float) -> Refusal:
    """No target's breaker lets a call through."""
    wait = route.resting_for(now)
    return Refusal(REASONS["breaker-open"], ((b"retry-after", b"%d" % wait),))


def _retry_after(answer: Answered, now: float) -> float | None:
    """For how many seconds a target wants no calls (RFC 9110, 10.2.3); None where it does not say."""
    value = next((value for name, value in answer.headers if name == b"retry-after"), b"").strip()
    if value.isdigit():
        return float(value[:9])
    until = date_of(value) if value else None
    return max(0.0, until - now) if until is not None else None


_DECIDED: Final = Passed(200, b"")
"""How a program ends that goes nowhere."""
