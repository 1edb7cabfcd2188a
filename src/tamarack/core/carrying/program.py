"""An operation's program: the whole way of a call, put together once at rollout and run for each call.

It is a generator without I/O. It runs until it needs something from outside, yields the need (`core.carrying.needs`),
and goes on with the answer. Who answers is a driver: a node's own, or a scripted one on a virtual clock; both run this
same program, so a page and a node cannot disagree. A traced call runs the same steps, each wrapped when the program was
put together.
"""

from __future__ import annotations

from collections.abc import Callable, Generator, Sequence
from typing import Any

from tamarack.core.carrying.call import Call, Published
from tamarack.core.carrying.forwarding import Passed, read_answer, request_head
from tamarack.core.carrying.metering import Meter
from tamarack.core.carrying.needs import Ask, Failed, FetchKeys, Need, ReadAnswer, ReadBody, Take
from tamarack.core.carrying.parts import Answered, Answerer, Change, Limit, Reply, Watch
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.carrying.route import Route
from tamarack.core.carrying.steps import Lane, NamedStep, Told
from tamarack.core.http.browser import BrowserRule
from tamarack.core.limits.store import Taken
from tamarack.core.stages import Stage
from tamarack.core.traffic.record import PLACE

Clock = Callable[[], int]
"""A clock in nanoseconds."""

REPEATABLE = frozenset(("GET", "HEAD", "OPTIONS", "PUT", "DELETE", "TRACE"))
"""Idempotent methods (RFC 9110, 9.2.2)."""
_METER_ENDED = 1 + PLACE[Stage.METER]
_SHAPE_ENDED = 1 + PLACE[Stage.SHAPE]
_FORWARD_ENDED = 1 + PLACE[Stage.FORWARD]

FAILURES = {
    "away": Refusal(REASONS["backend-away"]),
    "slow": Refusal(REASONS["backend-slow"]),
    "broken": Refusal(REASONS["backend-broken"]),
    "busy": Refusal(REASONS["backend-busy"], ((b"retry-after", b"1"),)),
}
_SECRET_MISSING = Refusal(REASONS["secret-missing"], ((b"retry-after", b"30"),))


Program = Generator[Need, Any, Refusal | Reply | Passed]
"""Ends with how the call ends."""


class Operation(Published):
    """An operation ready to carry calls."""

    __slots__ = (
        "answerers",
        "browser",
        "changes",
        "clock",
        "lane",
        "meter",
        "named",
        "reads",
        "reads_answer",
        "route",
        "settles",
        "take",
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
        reads: Sequence[tuple[bytes, int]] = (),
        browser: BrowserRule | None = None,
        route: Route | None = None,
        clock: Clock | None = None,
    ) -> None:
        super().__init__(facts.api, facts.version, facts.name, facts.backend, facts.base_path, facts.body_limit,
                         facts.secret, facts.limit_fields)  # fmt: skip
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
        self.reads = tuple(reads)
        """The media types (empty for any) whose bodies are read ahead, and the most bytes of each."""
        self.settles = bool(watches)
        """Whether the answer may tell what limits still have to count."""
        self.reads_answer = max((change.answer_body for _, change in self.changes), default=0)
        self.browser = browser
        self.route = route
        """None where calls are only decided over, and go nowhere."""
        self.clock = clock

    def run(self, call: Call) -> Program:
        """The program of one call."""
        lane = self.lane if call.trace is None else self.traced
        for step in lane.first:
            refusal = step(call)
            if refusal is not None:
                return refusal
        if self.reads and call.length:
            media = call.media.lower()
            wanted = max((most for kind, most in self.reads if media.startswith(kind)), default=0)
            if wanted:
                call.body = read = yield ReadBody(wanted)
                if type(read) is Refusal:
                    call.body = None
                    return read
        refusal = None
        headers, query, body = call.headers, call.query, call.body
        for step in lane.steps:
            refusal = step(call)
            if refusal is not None:
                break
        if refusal is not None:
            if refusal.unknown_key is None or not (yield FetchKeys(*refusal.unknown_key)):
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
                return reply  # type: ignore[return-value]
        route = self.route
        if route is None:
            return _DECIDED
        target = route.choose()
        if target is None:
            return FAILURES["away"]
        signs_in = None
        if route.sign_in is not None:
            signs_in = route.sign_in()
            if signs_in is None:
                return _SECRET_MISSING
        call.target = target.label
        caller = call.caller
        ask = Ask(
            target,
            call.method,
            request_head(call, self, target, signs_in),
            call.body,
            caller.application_id if caller is not None else call.address,
        )
        ask.repeatable = call.length == 0 and call.method in REPEATABLE
        if clock is not None:
            call.ended_at[_SHAPE_ENDED] = call.asked_at = clock()
        answer = yield ask
        if clock is not None:
            call.ended_at[_FORWARD_ENDED] = ended = clock()
            call.backend_us = (ended - call.asked_at) // 1000
        if type(answer) is Failed:
            route.noted(target, answer.failure)
            call.note = answer.step
            return FAILURES[answer.failure]
        if type(answer) is Refusal:
            return answer
        route.noted(target, "answered")
        call.answered = True
        if self.changes:
            if self.reads_answer and answer.body is None:
                whole = yield ReadAnswer(self.reads_answer)
                if type(whole) is Failed:
                    route.noted(target, whole.failure)
                    call.note = whole.step
                    return FAILURES[whole.failure]
                answer.body = whole
            self._change(call, answer)
        if self.watches:
            begun = [watch.begin(call, answer.status, answer.headers) for watch in self.watches]
            call.watching = [one for one in begun if one is not None]
        passed = Passed(answer.status, answer.body)
        read_answer(passed, call, target, answer.headers)
        return passed

    def _change(self, call: Call, answer: Answered) -> None:
        """Change an answer; a body that was changed has another length."""
        before = answer.body
        for told, change in self.changes:
            if change.answer_body and answer.body is None and before is None:
                continue  # longer than it takes
            change.answer(call, answer)  # type: ignore[misc]
            if call.trace is not None:
                call.trace.changed(told)
        if answer.body is not None and answer.body is not before:
            answer.headers = [field for field in answer.headers if field[0] != b"content-length"]

    def settled(self, call: Call, complete: bool) -> Sequence[tuple[Any, str, int]]:
        """The call has ended: what watches found is counted. Returns what limits still have to count."""
        watching, call.watching = call.watching, ()
        for one in watching:
            one.end(complete)
        return self.meter.owed(call) if self.meter is not None and call.asked else ()

    @property
    def limits(self) -> list[Limit]:
        """The limits that policies set, in their order."""
        told = (one.part for step in self.named if step.stage is Stage.METER for one in step.told)
        return [part for part in told if isinstance(part, Limit)]


_DECIDED = Passed(200, b"")
"""How a program ends that goes nowhere."""
