"""What all calls of a node share: what it serves, its counters, its upstream client, its recorder, its clock."""

from __future__ import annotations

import secrets
import sys
import traceback
from collections.abc import Callable
from email.utils import formatdate
from time import gmtime, perf_counter_ns, strftime, time
from typing import Final

import orjson

from tamarack.core.balancing.routes import SignsIn, route_to
from tamarack.core.balancing.target_state import TargetStates
from tamarack.core.caching.memory import MemoryCache
from tamarack.core.carrying.assembly import Workshop, assemble
from tamarack.core.carrying.caching import CacheStore
from tamarack.core.carrying.call import Call
from tamarack.core.carrying.metering import QuotaLog
from tamarack.core.carrying.program import Operation
from tamarack.core.carrying.receiving import Routed
from tamarack.core.carrying.routing import Router
from tamarack.core.configuration.snapshot import Snapshot, SnapshotBackend
from tamarack.core.http.addresses import Networks
from tamarack.core.http.backend_sign_in import sign_in_field
from tamarack.core.identity.directory import Directory
from tamarack.core.identity.material import Material, nothing_sealed
from tamarack.core.language_models.estimating import Learned
from tamarack.core.language_models.near_equal.question import Embed
from tamarack.core.limits.memory import MemoryCounters
from tamarack.core.limits.store import CounterStore
from tamarack.core.nodes.feed import Standing
from tamarack.core.told.addresses import NOWHERE, Addresses
from tamarack.core.told.problems import Problems
from tamarack.core.told.recording import record_of
from tamarack.core.trying.node_request import HEADER as NODE_HEADER
from tamarack.core.trying.node_request import NodeRequest, read_request
from tamarack.gateway.caches.node_caches import NodeCaches
from tamarack.gateway.key_sets import KeySetWaiter, nobody
from tamarack.gateway.metering import Metering
from tamarack.gateway.node_requests import answer_request
from tamarack.gateway.opaque_tokens import TokenFinder, no_tokens
from tamarack.gateway.processes.siblings import Siblings, together
from tamarack.gateway.recording.misfit_count import MisfitCount
from tamarack.gateway.recording.recorder import Recorder
from tamarack.gateway.recording.tracer import Tracer
from tamarack.gateway.upstream.interface import Upstream


def log(text: str) -> None:
    """One line to the node's log."""
    print(strftime("%Y-%m-%dT%H:%M:%SZ", gmtime()), text, file=sys.stderr, flush=True)


_UNDESCRIBED: Final = frozenset(("unknown-path", "wrong-method"))
_IN_HEX: Final = tuple(b"%03x" % number for number in range(4096))
"""Numbers of three hexadecimal digits: looked up for every call, which is faster than writing them."""


class Serving:
    """A snapshot taken up: everything the calls of one rollout need, swapped in one assignment."""

    __slots__ = ("authorities", "bases", "environment", "health", "number", "router", "routes")

    def __init__(
        self,
        number: int,
        snapshot: Snapshot,
        directory: Directory,
        counters: CounterStore,
        material: Material,
        quota_log: QuotaLog | None = None,
        cache: CacheStore | None = None,
        states: TargetStates | None = None,
        addresses: Addresses = NOWHERE,
        learned: Learned | None = None,
        embed: Embed | None = None,
    ) -> None:
        self.number = number
        self.environment = snapshot.environment
        self.routes = {
            backend.name: route_to(
                backend,
                states if states is not None else TargetStates(),
                _signs_in(backend, material),
                time(),
            )
            for backend in snapshot.backends
        }
        if states is not None:
            states.forget_others(
                {(name, target.label) for name, route in self.routes.items() for target in route.targets}, time()
            )
        self.bases = {one.base_path.encode(): (one.api, one.version) for one in reversed(snapshot.versions)}
        """Where versions are, for calls that ask for what is nowhere."""
        self.health = {backend.name: backend.health for backend in snapshot.backends if backend.health is not None}
        shop = Workshop(
            directory,
            material,
            counters,
            snapshot.environment,
            quota_log,
            perf_counter_ns,
            self.routes,
            cache=cache,
            addresses=addresses,
            backends={backend.name: backend.model_dump_json() for backend in snapshot.backends},
            learned=learned if learned is not None else Learned(),
            embed=embed,
        )
        self.router: Router[Routed] = assemble(snapshot, shop)
        self.authorities = snapshot.authorities
        """Who signs the certificates (PEM) that callers may show; empty where none are asked for."""


def _signs_in(backend: SnapshotBackend, material: Material) -> SignsIn | None:
    """How a node signs in to a backend, with a secret by its name; None where it does not."""
    if backend.sign_in == "none":
        return None
    kind, name = backend.sign_in, backend.sign_in_name
    return lambda secret: sign_in_field(kind, name, material.secret(secret))


class Gateway:
    """One for a node. `serving` is None until a rollout was taken up."""

    def __init__(
        self,
        node: str,
        environment: str,
        upstream: Upstream,
        recorder: Recorder,
        problems: Problems,
        trusted: Networks | None = None,
        material: Material | None = None,
        tracer: Tracer | None = None,
        key_sets: KeySetWaiter | None = None,
        metering: Metering | None = None,
        log: Callable[[str], None] = log,
        caches: NodeCaches | None = None,
        misfits: MisfitCount | None = None,
        tokens: TokenFinder | None = None,
        addresses: Addresses = NOWHERE,
        embed: Embed | None = None,
        siblings: Siblings | None = None,
    ) -> None:
        self.siblings = siblings if siblings is not None else Siblings()
        self.embed = embed
        """Finds out the meaning of a prompt; None where prompts are compared by their words alone."""
        self.metering = metering if metering is not None else Metering(MemoryCounters())
        self.material = material if material is not None else Material(environment, nothing_sealed)
        self.tracing = self.material.tracing
        self.tracer = tracer
        self.key_sets = key_sets if key_sets is not None else KeySetWaiter(self.material, nobody)
        self.tokens = tokens if tokens is not None else TokenFinder(self.material.opaque, no_tokens)
        self.addresses = addresses
        self.node = node
        self.environment = environment
        self.upstream = upstream
        self.recorder = recorder
        self.problems = problems
        self.trusted = trusted
        self.serving: Serving | None = None
        self.standing: Standing = "serving"
        """What the node was asked to do, as it does it."""
        self.ending = False
        self.leaving = False
        """It is not to serve: load balancers are told so, and connections end with their next answer."""
        self.caches = caches if caches is not None else NodeCaches(MemoryCache(64_000_000))
        self.trust: Callable[[str], None] = lambda authorities: None
        """Told who signs callers' certificates, with each rollout."""
        self.states = TargetStates()
        self.learned = Learned()
        """What answers of language models told; it stays from rollout to rollout."""
        self.misfits = misfits if misfits is not None else MisfitCount(environment)
        self._log = log
        self._id_part = secrets.token_hex(3).encode()
        self._id_count = 0
        self._id_ms = 0
        self._id_start = b""
        self._date: tuple[int, bytes] = (0, b"")

    def take_up(self, serving: Serving) -> None:
        """Serve what a rollout says from now on; calls under way finish on the earlier one."""
        self.trust(serving.authorities)
        self.serving = serving

    def stand(self, standing: Standing) -> None:
        """Do what is asked for: serve, drain or stop."""
        self.standing = standing
        self.leaving = self.ending or standing != "serving"

    def end(self) -> None:
        """The program is to end: calls should go elsewhere, whatever the node is asked to do."""
        self.ending = self.leaving = True

    def ready(self) -> str:
        """Why a load balancer should send no calls; empty where it should."""
        if self.serving is None:
            return "no rollout was taken up yet"
        if self.ending:
            return "the node is ending"
        return f"the node is {self.standing}" if self.leaving else ""

    def new_call_id(self, now: float) -> bytes:
        """A call id: the time in milliseconds, the node's random part, and a count, in hexadecimal."""
        count = self._id_count
        self._id_count = (count + 1) & 0xFFFFFF
        ms = int(now * 1000)
        if ms != self._id_ms:
            self._id_ms = ms
            self._id_start = b"%011x%b" % (ms, self._id_part)
        return self._id_start + _IN_HEX[count >> 12] + _IN_HEX[count & 0xFFF]

    def date(self, now: float) -> bytes:
        """The Date field's value, made once a second."""
        whole = int(now)
        if self._date[0] != whole:
            self._date = (whole, formatdate(whole, usegmt=True).encode())
        return self._date[1]

    @staticmethod
    def now() -> float:
        """Seconds since the epoch."""
        return time()

    def begin_trace(self, call: Call) -> None:
        """Trace a call, where that is asked for."""
        if self.tracer is not None:
            call.trace = self.tracer.begin(call)

    def settle(self, operation: Operation, call: Call, complete: bool) -> None:
        """Count what the answer told of a call's cost and tokens."""
        try:
            owed = operation.settled(call, complete)
            if owed:
                self.metering.charge(owed, call.counted_at)
        except Exception as error:
            self.log_error(call, error)

    def record(self, call: Call, operation: Operation | None) -> None:
        """The one place where calls are recorded. It must not fail, whatever a call holds."""
        try:
            self.recorder.add(record_of(call, self.environment, self.node))
            if call.prompt is not None and call.prompt.logged is not None:
                self.recorder.add_prompt(call.prompt.logged.entry(call, self.environment))
            if call.graph is not None and self.recorder.fields is not None:
                self.recorder.fields.add(call)
            if call.misfits:
                self.misfits.add(call)
            elif call.reason in _UNDESCRIBED and self.serving is not None:
                self.misfits.add_unknown(call, self.serving.bases)
            if call.trace is not None and self.tracer is not None:
                self.tracer.finish(call, operation)
                call.trace = None
        except Exception as error:
            self.log_error(call, error)

    def log_error(self, call: Call, error: BaseException) -> None:
        """Log what nobody thought of, with the call id. What callers sent is not in it."""
        places = traceback.extract_tb(error.__traceback__)
        where = "; ".join(f"{place.filename.rpartition('/')[2]}:{place.lineno} {place.name}" for place in places[-6:])
        self._log(f"call {call.id.decode()}: {type(error).__name__} at {where}")

    # what the console asks of the node itself

    @staticmethod
    def _sealed(call: Call) -> bytes:
        return next((value for name, value in call.headers if name == NODE_HEADER), b"")

    def _request(self, sealed: bytes, now: float) -> NodeRequest | None:
        return read_request(sealed, self.tracer.key, self.environment, now) if self.tracer is not None else None

    def asked_by_console(self, call: Call) -> bool:
        """Whether it is the console that asks."""
        return self._request(self._sealed(call), call.now) is not None

    async def answer_console(self, call: Call) -> bytes:
        """What the console asked for, as JSON, for the whole node."""
        sealed = self._sealed(call)
        request = self._request(sealed, call.now)
        assert request is not None
        own = await answer_request(self.metering, self.caches, request, call.now)
        others = await self.siblings.ask(sealed)
        return orjson.dumps(together(own, others, request.most, self.metering.counting == "with all nodes"))

    async def answer_sibling(self, sealed: bytes) -> bytes | None:
        """What the console asked another process of this node, for this one; None where it is not the console's."""
        now = time()
        request = self._request(sealed, now)
        return orjson.dumps(await answer_request(self.metering, self.caches, request, now)) if request else None
