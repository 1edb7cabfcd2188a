"""Carrying a call: the ASGI application of a node.

The order of the work is the call path. Everything that can be prepared is prepared when a rollout is
taken up (`Serving`); what stands here is done for every call.
"""

from __future__ import annotations

import asyncio
import itertools
import secrets
from collections.abc import AsyncIterator, Callable, Sequence
from email.utils import formatdate
from time import perf_counter_ns, time
from typing import Any

from tamarack.core.carrying.backend_sign_in import sign_in_field
from tamarack.core.carrying.call import Call, Header
from tamarack.core.carrying.metering import QuotaLog
from tamarack.core.carrying.pipeline import CompiledOperation, answer_preflight, compile_router, is_preflight, run
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.carrying.routing import BadPath
from tamarack.core.configuration.snapshot import Snapshot
from tamarack.core.identity.directory import Directory
from tamarack.core.identity.material import Material, nothing_sealed
from tamarack.core.limits.memory import MemoryCounters
from tamarack.core.limits.store import CounterStore
from tamarack.core.policies.identify.places import FORM
from tamarack.core.traffic.record import LONGEST_AGENT, LONGEST_PATH, LONGEST_USER, OVER_QUOTA
from tamarack.core.trying.node_request import HEADER as NODE_HEADER
from tamarack.core.trying.node_request import PATH as NODE_PATH
from tamarack.core.trying.node_request import read_request
from tamarack.gateway.forwarding import Network, answer_fields, caller_address, request_head
from tamarack.gateway.key_sets import KeySetWaiter, nobody
from tamarack.gateway.metering import Metering
from tamarack.gateway.node_requests import answer_request
from tamarack.gateway.problem import CALL_ID, STATUS_LINES, Problems
from tamarack.gateway.recorder import Recorder
from tamarack.gateway.tracer import Tracer, Tracing
from tamarack.gateway.upstream.interface import (
    Answer,
    BodyTooLarge,
    CallerGone,
    TargetAddress,
    Upstream,
    UpstreamError,
    target_address,
)

MOST_FORM_BYTES = 65_536
"""The longest form post that a way to identify looks into."""
BODY_STALL_S = 60.0
"""Seconds a caller may pause in the middle of a body."""

_UPSTREAM_REASONS = {
    "away": Refusal(REASONS["backend-away"]),
    "slow": Refusal(REASONS["backend-slow"]),
    "broken": Refusal(REASONS["backend-broken"]),
}
_TOO_LARGE = Refusal(REASONS["too-large"])
_UNKNOWN_PATH = Refusal(REASONS["unknown-path"])
_BAD_PATH = Refusal(REASONS["bad-path"])
_SECRET_MISSING = Refusal(REASONS["secret-missing"], ((b"retry-after", b"30"),))
_NOT_READY = Refusal(REASONS["not-ready"], ((b"retry-after", b"1"),))
_NO_TOKENS = (0, 0)
_NO_BODY = frozenset((204, 304))
_REPEATABLE = frozenset(("GET", "HEAD", "OPTIONS", "PUT", "DELETE", "TRACE"))
GONE = 499
"""Recorded as the status of a call whose caller went away before it was answered."""


class _Refused(Exception):
    """A refusal found after the steps."""

    def __init__(self, refusal: Refusal) -> None:
        super().__init__(refusal.reason.code)
        self.refusal = refusal


class Serving:
    """A snapshot taken up: everything the calls of one rollout need, swapped in one assignment."""

    __slots__ = ("environment", "number", "router", "sign_in", "targets")

    def __init__(
        self,
        number: int,
        snapshot: Snapshot,
        directory: Directory,
        counters: CounterStore,
        material: Material,
        shared: bool = False,
        log: QuotaLog | None = None,
    ) -> None:
        self.number = number
        self.environment = snapshot.environment
        self.router = compile_router(snapshot, directory, counters, material, shared, log, perf_counter_ns)
        self.sign_in: dict[str, Callable[[], Header | None]] = {
            backend.name: sign_in_field(backend.sign_in, backend.sign_in_name, material.secret(backend.sign_in_secret))
            for backend in snapshot.backends
            if backend.sign_in != "none"
        }
        self.targets: dict[str, tuple[TargetAddress, ...]] = {
            backend.name: tuple(
                target_address(address, backend.connect_timeout_ms, backend.read_timeout_ms, backend.verify_tls)
                for address in backend.targets
            )
            for backend in snapshot.backends
        }


class Gateway:
    """The application. `serving` is None until a rollout was taken up."""

    def __init__(
        self,
        node: str,
        environment: str,
        upstream: Upstream,
        recorder: Recorder,
        problems: Problems,
        trusted: tuple[Network, ...] = (),
        material: Material | None = None,
        tracer: Tracer | None = None,
        key_sets: KeySetWaiter | None = None,
        metering: Metering | None = None,
    ) -> None:
        self.metering = metering if metering is not None else Metering(MemoryCounters())
        self.material = material if material is not None else Material(environment, nothing_sealed)
        self.tracing = self.material.tracing
        self.tracer = tracer
        self.key_sets = key_sets if key_sets is not None else KeySetWaiter(self.material, nobody)
        self.node = node
        self.environment = environment
        self.upstream = upstream
        self.recorder = recorder
        self.problems = problems
        self.trusted = trusted
        self.serving: Serving | None = None
        self._ids = itertools.count()
        self._id_part = secrets.token_hex(3)
        self._date: tuple[int, bytes] = (0, b"")
        self._turn = itertools.count()

    def new_call_id(self, now: float) -> str:
        """A call id: the time in milliseconds, the node's random part, and a count, in hexadecimal."""
        return f"{int(now * 1000):011x}{self._id_part}{next(self._ids) & 0xFFFFFF:06x}"

    def date(self, now: float) -> bytes:
        """The Date field's value, made once a second."""
        whole = int(now)
        if self._date[0] != whole:
            self._date = (whole, formatdate(whole, usegmt=True).encode())
        return self._date[1]

    def refuse_head(self, reason: str, address: str) -> tuple[int, bytes, bytes]:
        """Answer and record a request whose head was refused before it became a call."""
        now = time()
        call_id = self.new_call_id(now)
        status = REASONS[reason].status
        body = self.problems.body(reason, call_id)
        self._record(call_id, now, 0, 0, None, None, "", b"", status, reason, 0, len(body), address, b"", "")
        fields = b"content-type: application/problem+json\r\n%b: %b\r\ndate: %b\r\n" % (
            CALL_ID,
            call_id.encode(),
            self.date(now),
        )
        return status, fields, body

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        """Carry one call."""
        started = perf_counter_ns()
        now = time()
        call_id = self.new_call_id(now)
        serving = self.serving
        headers: list[Header] = scope["headers"]
        method: str = scope["method"]
        path: bytes = scope["raw_path"]
        cycle = scope["tamarack.cycle"]
        peer = scope["client"]
        address: str = peer[0] if peer else ""
        if self.trusted:
            address = caller_address(address, headers, self.trusted)
        length = 0
        agent = host = ticket = media = b""
        for name, value in headers:
            if name == b"host":
                host = value
            elif name == b"user-agent":
                agent = value
            elif name == b"content-length":
                length = int(value)
            elif name == b"transfer-encoding":
                length = -1
            elif name == b"content-type":
                media = value
            elif name == b"tamarack-bench":
                ticket = value
        call: Call | None = None
        trace: Tracing | None = None
        form: _Body | None = None
        failed: Exception | None = None
        refusal: Refusal | None
        if serving is None:
            refusal = _NOT_READY
        else:
            try:
                if method == "OPTIONS" and is_preflight(method, headers):
                    self._preflight(serving, cycle, path, headers, address, call_id, now, started, agent)
                    return
                found = serving.router.find(method, path)
            except BadPath:
                refusal = _BAD_PATH
            else:
                if type(found) is CompiledOperation:
                    query: bytes = scope["query_string"]
                    call = Call(method, path, query, headers, address, now, found, length, started)
                    if found.wants_form and length and media[:33].lower() == FORM:
                        form = _Body(receive, call.body_limit)
                        try:
                            call.form = await form.read_ahead()
                        except (BodyTooLarge, CallerGone) as error:
                            failed = error
                    if (ticket or self.tracing.on) and self.tracer is not None:
                        trace = self.tracer.begin(ticket, now)
                    refusal = None
                    call.ended_at[1] = perf_counter_ns()
                    if failed is not None:
                        pass
                    elif trace is None:
                        for step in found.steps:
                            refusal = step(call)
                            if refusal is not None:
                                break
                    else:
                        refusal = trace.run(call)
                    if refusal is not None and refusal.unknown_key is not None:
                        url, kid = refusal.unknown_key
                        if await self.key_sets.wait_for(url, kid, now):
                            posted = call.form
                            call = Call(method, path, query, headers, address, now, found, length, started)
                            call.form = posted
                            call.ended_at[1] = perf_counter_ns()
                            refusal = run(call) if trace is None else trace.run(call)
                    if found.meter is not None and refusal is None and failed is None:
                        counting = perf_counter_ns()
                        cycle.waiting = bool(found.meter.smooth)  # a caller that goes away frees its place
                        try:
                            refusal = await self.metering.decide(found.meter, call)
                        except asyncio.CancelledError:
                            failed = CallerGone()
                        cycle.waiting = False
                        call.ended_at[5] = ended = perf_counter_ns()
                        if trace is not None:
                            trace.metered(call, refusal, (ended - counting) / 1000)
                elif found is None:
                    if path == NODE_PATH and await self._answered_console(cycle, headers, now):
                        return
                    refusal = _UNKNOWN_PATH
                else:
                    allow = ", ".join(sorted(found)).encode()  # type: ignore[arg-type]
                    refusal = Refusal(REASONS["wrong-method"], ((b"allow", allow),))
        backend_us = sent = taken = status = asked_at = 0
        reason = label = cache = ""
        tokens = _NO_TOKENS
        body: _Body | None = None
        answer: Answer | None = None
        try:
            if failed is not None:
                raise failed
            if refusal is None:
                assert call is not None and serving is not None
                target = self._target(serving, call)
                label = target.label
                sign_in = serving.sign_in.get(call.operation.backend)
                if sign_in is not None:
                    own = sign_in()
                    if own is None:
                        raise _Refused(_SECRET_MISSING)
                    call.headers = [*(field for field in call.headers if field[0] != own[0]), own]
                if call.form is not None:
                    call.length = len(call.form)
                head = request_head(call, target, call_id.encode(), host, scope["scheme"])
                call.ended_at[6] = asked_at = perf_counter_ns()
                if length == 0:
                    cycle.waiting = True
                    answer = await self.upstream.send(target, method, head, repeatable=method in _REPEATABLE)
                    cycle.waiting = False
                else:
                    body = form if form is not None else _Body(receive, call.body_limit)
                    if call.form is not None:
                        body.replace(call.form)
                    answer = await self.upstream.send(target, method, head, body.chunks(), call.length < 0)
                call.ended_at[7] = ended = perf_counter_ns()
                backend_us = (ended - asked_at) // 1000
                status = answer.status
                fields, has_length, cache = answer_fields(answer.headers)
                fields = STATUS_LINES[status] + fields + self._own_fields(call, call_id)
                whole = answer.whole()
                costing = call.operation.costing
                if costing is not None and costing.cost_of is not None:
                    more = costing.cost_of(answer.headers, whole) - costing.cost
                    if more > 0:
                        self.metering.charge(costing, call, more)
                if call.operation.tokens_of is not None:
                    tokens = call.operation.tokens_of(whole)
                if whole is not None and not cycle.flow.write_paused:
                    sent = len(whole)
                    if not has_length and method != "HEAD" and status not in _NO_BODY:
                        fields += b"content-length: %d\r\n" % sent
                    cycle.respond(fields, whole)
                else:
                    async for chunk in self._stream(cycle, send, answer, fields, has_length):
                        sent += chunk
                    call.ended_at[7] = ended = perf_counter_ns()
                    backend_us = (ended - asked_at) // 1000
        except UpstreamError as error:
            if asked_at:
                backend_us = (perf_counter_ns() - asked_at) // 1000
            refusal = _UPSTREAM_REASONS[error.failure]
            if status:
                cycle.cut_off()  # the head is out: only closing tells the caller that the rest is missing
        except BodyTooLarge:
            refusal = _TOO_LARGE
        except _Refused as error:
            refusal = error.refusal
            label = ""
        except (CallerGone, asyncio.CancelledError):
            status = status or GONE
            cycle.cut_off()
        finally:
            if answer is not None:
                answer.close()
            if body is not None:
                taken = body.taken
        if refusal is not None:
            reason = refusal.reason.code
            if not status:
                status = refusal.reason.status
                sent = self._refuse(cycle, method, refusal, call, call_id, now)
        ended = perf_counter_ns()
        total_us = (ended - started) // 1000
        if call is not None and answer is not None:
            call.ended_at[8] = ended
        if trace is not None and self.tracer is not None:
            received = answer.headers if answer is not None else []
            self.tracer.finish(trace, call, call_id, now, refusal, status, label, backend_us, total_us, received)
        self._record(
            call_id, now, total_us, backend_us, serving, call, method, path, status, reason, taken, sent,
            address, agent, label, cache, tokens,
        )  # fmt: skip

    async def _answered_console(self, cycle: Any, headers: list[Header], now: float) -> bool:
        """Answer what the console asks of the node itself; False where it is not the console that asks."""
        if self.tracer is None:
            return False
        value = next((value for name, value in headers if name == NODE_HEADER), b"")
        request = read_request(value, self.tracer.key, self.environment, now)
        if request is None:
            return False
        body = await answer_request(self.metering, request, now)
        cycle.respond(
            b"%bcontent-type: application/json\r\ncontent-length: %d\r\n" % (STATUS_LINES[200], len(body)), body
        )
        return True

    def _preflight(
        self,
        serving: Serving,
        cycle: Any,
        path: bytes,
        headers: list[Header],
        address: str,
        call_id: str,
        now: float,
        started: int,
        agent: bytes,
    ) -> None:
        """Answer a browser that asks before it calls."""
        operation, fields, refusal = answer_preflight(serving.router, path, headers)
        call = Call("OPTIONS", path, b"", headers, address, now, operation) if operation is not None else None
        reason = ""
        status, sent = 204, 0
        if refusal is None:
            own = b"date: %b\r\n%b" % (self.date(now), self._own_fields(None, call_id))
            cycle.respond(STATUS_LINES[204] + own + fields, b"")
        else:
            if call is not None:
                call.fields = fields
            reason, status = refusal.reason.code, refusal.reason.status
            sent = self._refuse(cycle, "OPTIONS", refusal, call, call_id, now)
        total_us = (perf_counter_ns() - started) // 1000
        self._record(
            call_id, now, total_us, 0, serving, call, "OPTIONS", path, status, reason, 0, sent, address, agent, ""
        )

    def _target(self, serving: Serving, call: Call) -> TargetAddress:
        """The target to ask: each in its turn."""
        targets = serving.targets.get(call.operation.backend, ())
        if len(targets) == 1:
            return targets[0]
        if not targets:
            raise UpstreamError("away", "the backend has no target in this environment")
        return targets[next(self._turn) % len(targets)]

    async def _stream(
        self, cycle: Any, send: Any, answer: Answer, fields: bytes, has_length: bool
    ) -> AsyncIterator[int]:
        """Send an answer on piece by piece, no faster than the caller takes it; yields the size of each."""
        chunked = cycle.start_streaming(fields, has_length, answer.status in _NO_BODY)
        async for chunk in answer.chunks():
            await cycle.stream(chunk, chunked)
            if cycle.disconnected:
                raise CallerGone
            yield len(chunk)
        cycle.end_streaming(chunked)

    def _own_fields(self, call: Call | None, call_id: str) -> bytes:
        """The fields that the gateway adds to an answer: the call id, and what is left of the tightest limit."""
        if call is None:
            return b"tamarack-call-id: %b\r\n" % call_id.encode()
        taken = call.taken
        if taken is None:
            return b"tamarack-call-id: %b\r\n%b" % (call_id.encode(), call.fields)
        return b"tamarack-call-id: %b\r\n%b%b" % (call_id.encode(), call.operation.limit_fields(taken), call.fields)

    def _refuse(
        self,
        cycle: Any,
        method: str,
        refusal: Refusal,
        call: Call | None,
        call_id: str,
        now: float,
    ) -> int:
        """Answer a refusal; returns the size of its body."""
        body = self.problems.body(refusal.reason.code, call_id, refusal.detail)
        extra = b"".join(b"%b: %b\r\n" % field for field in refusal.headers)
        head = b"%bcontent-type: application/problem+json\r\ncontent-length: %d\r\ndate: %b\r\n%b%b" % (
            STATUS_LINES[refusal.reason.status],
            len(body),
            self.date(now),
            extra,
            self._own_fields(call, call_id),
        )
        cycle.respond(head, b"" if method == "HEAD" else body)
        return len(body)

    def _record(
        self,
        call_id: str,
        now: float,
        total_us: int,
        backend_us: int,
        serving: Serving | None,
        call: Call | None,
        method: str,
        path: bytes,
        status: int,
        reason: str,
        taken: int,
        sent: int,
        address: str,
        agent: bytes,
        label: str,
        cache: str = "",
        tokens: tuple[int, int] = _NO_TOKENS,
    ) -> None:
        user = ""
        marks: Sequence[int] = ()
        api = version = operation = organization = application = subscription = plan = credential = mark = ""
        held_us = 0
        if call is not None:
            held_us = call.held_us
            if call.taken is not None and call.taken.over is not None:
                mark = OVER_QUOTA
            carried = call.operation
            user = call.user[:LONGEST_USER]
            marks = call.ended_at
            api, version, operation = carried.api, carried.version, carried.name
            caller = call.caller
            if caller is not None:
                organization, application = caller.organization, caller.application
                credential = caller.credential
            grant = call.grant
            if grant is not None:
                subscription, plan = grant.subscription, grant.plan
        self.recorder.add(
            (
                call_id,
                int(now * 1_000_000),
                total_us,
                backend_us,
                self.environment,
                self.node,
                serving.number if serving is not None else 0,
                api,
                version,
                operation,
                method,
                path[:LONGEST_PATH].decode("latin-1"),
                status,
                reason,
                taken,
                sent,
                organization,
                application,
                subscription,
                plan,
                credential,
                address,
                agent[:LONGEST_AGENT].decode("latin-1"),
                label,
                held_us,
                mark,
                user,
                cache,
                *tokens,
                marks,
            )
        )


class _Body:
    """A caller's body as it comes, held to its limit."""

    def __init__(self, receive: Any, limit: int) -> None:
        self._receive = receive
        self._limit = limit
        self._ahead: list[bytes] = []
        self._ended = False
        self.taken = 0

    async def read_ahead(self) -> bytes | None:
        """The whole body of a form post, where it is short enough; what was read is not lost where it is not."""
        size = 0
        async for chunk in self.chunks():
            self._ahead.append(chunk)
            size += len(chunk)
            if size > MOST_FORM_BYTES:
                return None
        return b"".join(self._ahead)

    def replace(self, body: bytes) -> None:
        """Send this in place of what was read ahead."""
        self._ahead = [body] if body else []

    async def chunks(self) -> AsyncIterator[bytes]:
        """The body, piece by piece; what was read ahead comes first."""
        for ahead in self._ahead:
            yield ahead
        while not self._ended:
            try:
                async with asyncio.timeout(BODY_STALL_S):
                    message = await self._receive()
            except TimeoutError:
                raise CallerGone from None
            if message["type"] == "http.disconnect":
                raise CallerGone
            chunk: bytes = message["body"]
            self.taken += len(chunk)
            if self.taken > self._limit:
                raise BodyTooLarge
            self._ended = not message.get("more_body")
            yield chunk
