"""The pipeline: a snapshot's operations turned into ready lists of steps, and a call run through them.

All choices are made when a rollout is taken up; on a call's way only the steps that hold are run.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

from tamarack.core.carrying.call import Call, Caller, Header
from tamarack.core.carrying.metering import Meter, PlanMeter, QuotaLog, QuotaMeter
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.carrying.routing import Router
from tamarack.core.carrying.stages import Stage
from tamarack.core.configuration.plans import part_for
from tamarack.core.configuration.snapshot import PlacedPolicy, Snapshot, SnapshotOperation, SnapshotVersion
from tamarack.core.http.browser import BrowserRule, requested_headers
from tamarack.core.identity.directory import Directory
from tamarack.core.identity.material import Material
from tamarack.core.limits.store import CounterStore, Limiter, Taken
from tamarack.core.limits.window import Window
from tamarack.core.policies import kind_of
from tamarack.core.policies.kind import Compiled, Identify, Step, Surroundings
from tamarack.core.policies.meter.limit_fields import standard
from tamarack.core.policies.permit.referring_site import site_called_from
from tamarack.core.traffic.record import PLACE

DEFAULT_BODY_LIMIT = 1000**3
"""Bytes; what holds where no body size policy does."""

_REVOKED = REASONS["revoked-credential"]
_EXPIRED = REASONS["expired-credential"]
_CLOSED = Refusal(REASONS["closed"])
_NOT_SUBSCRIBED = Refusal(REASONS["not-subscribed"])
_SUBSCRIPTION_PAUSED = Refusal(REASONS["subscription-paused"])
_APPLICATION_PAUSED = Refusal(REASONS["application-paused"])
_CREDENTIAL_ADDRESS = Refusal(REASONS["credential-address"])
_CREDENTIAL_SITE = Refusal(REASONS["credential-site"])
_RETIRED = Refusal(REASONS["retired"])

Clock = Callable[[], int]
"""A clock in nanoseconds."""
Reads = Callable[[Call], list[tuple[str, str]]]


class Part(NamedTuple):
    """One policy within a step: its name and placement, and what it looks at."""

    title: str
    name: str
    placement: str
    reads: Reads | None = None
    limiter: Limiter | None = None


class NamedStep(NamedTuple):
    """A step with where it stands, for traces. A step of several parts decides over all of them at once."""

    stage: Stage
    step: Step
    parts: tuple[Part, ...]


class CompiledOperation:
    """An operation ready to carry calls."""

    __slots__ = (
        "api",
        "backend",
        "base_path",
        "body_limit",
        "browser",
        "costing",
        "limit_fields",
        "meter",
        "name",
        "named",
        "secret",
        "steps",
        "tokens_of",
        "version",
        "wants_form",
    )

    def __init__(
        self,
        api: str,
        version: str,
        name: str,
        backend: str,
        named: tuple[NamedStep, ...],
        body_limit: int,
        base_path: str,
        browser: BrowserRule | None = None,
        secret: frozenset[str] = frozenset(),
        wants_form: bool = False,
        meter: Meter | None = None,
        costing: Meter | None = None,
        limit_fields: Callable[[Taken], bytes] = standard,
        tokens_of: Callable[[bytes | None], tuple[int, int]] | None = None,
        clock: Clock | None = None,
    ) -> None:
        self.api = api
        self.version = version
        self.name = name
        self.backend = backend
        self.named = named
        self.steps = _timed([one for one in named if meter is None or one.stage is not Stage.METER], clock)
        self.meter = meter
        """Set where limits are counted elsewhere, or calls may have to wait: then no step counts, and the node asks
        after the steps."""
        self.costing = costing
        """Set where the answer says how many calls one counts as."""
        self.tokens_of = tokens_of
        """Set where the answer tells how many tokens it took."""
        self.limit_fields = limit_fields
        """Writes the fields that tell what is left."""
        self.body_limit = body_limit
        self.base_path = base_path
        """What comes off a call's path before the rest is put behind the target's own."""
        self.browser = browser
        self.secret = secret
        """Names of fields and parameters that carry credentials here."""
        self.wants_form = wants_form


def _timed(named: Sequence[NamedStep], clock: Clock | None) -> tuple[Step, ...]:
    """The steps; with a clock, each stage's last is followed by one that notes when the stage ended."""
    steps: list[Step] = []
    for place, one in enumerate(named):
        steps.append(one.step)
        following = named[place + 1].stage if place + 1 < len(named) else None
        if clock is not None and following is not one.stage:
            steps.append(_note_end(clock, 1 + PLACE[one.stage]))
    return tuple(steps)


def _note_end(clock: Clock, place: int) -> Step:
    def step(call: Call) -> Refusal | None:
        call.ended_at[place] = clock()
        return None

    return step


class Plans:
    """What the plans set, ready to count: their rates by operation, and their quotas."""

    def __init__(self, snapshot: Snapshot, counters: CounterStore) -> None:
        self._plans = {f"{plan.product}/{plan.plan}": plan for plan in snapshot.plans}
        self._products = snapshot.products
        self._counters = counters
        self._limiters: dict[str, Limiter] = {}
        self._quotas = {
            # A quota counts for the product, so that changing the plan does not begin it anew.
            key: QuotaMeter(plan.quota, f"@quota/{plan.product}", plan.plan, counters)
            for key, plan in self._plans.items()
            if plan.quota is not None
        }

    def meters(self, api: str, operation: str) -> dict[str, PlanMeter]:
        """What each plan sets for an operation, by `product/plan`."""
        found = {}
        for key, plan in self._plans.items():
            if api not in self._products.get(plan.product, ()):
                continue
            part = part_for(plan.parts, api, operation)
            limits = part.limits if part is not None else plan.limits
            id = f"@plan/{key}" if part is None else f"@plan/{key}/{part.place}"
            limiter = self._limiter(id, plan.plan, limits) if limits else None
            if limiter is not None or key in self._quotas:
                found[key] = PlanMeter(limiter, self._quotas.get(key))
        return found

    def _limiter(self, id: str, name: str, limits: tuple[Window, ...]) -> Limiter:
        made = self._limiters.get(id)
        if made is None:
            made = self._limiters[id] = Limiter(id, name, limits, reason="over-plan")
            self._counters.bind(made)
        return made


@dataclass(slots=True)
class _Workshop:
    """What compiling needs. A policy at a placement is compiled once, so that its operations share what it keeps."""

    directory: Directory
    material: Material
    counters: CounterStore
    plans: Plans
    environment: str
    shared: bool = False
    cap: Limiter | None = None
    log: QuotaLog | None = None
    clock: Clock | None = None
    made: dict[tuple[PlacedPolicy, str], Compiled] = field(default_factory=dict)

    def compile(self, placed: PlacedPolicy, version: SnapshotVersion) -> Compiled:
        key = (placed, version.title)
        found = self.made.get(key)
        if found is None:
            realm = version.title.replace("\\", "").replace('"', "'")
            surroundings = Surroundings(
                self.directory, self.material, self.environment, placed.placement, realm, self.counters
            )
            found = self.made[key] = kind_of(placed.policy).compile(placed.policy, surroundings)
            if found.limiter is not None:
                self.counters.bind(found.limiter)
        return found


def compile_router(
    snapshot: Snapshot,
    directory: Directory,
    counters: CounterStore,
    material: Material,
    shared: bool = False,
    log: QuotaLog | None = None,
    clock: Clock | None = None,
) -> Router[CompiledOperation]:
    """Every operation of a snapshot, ready to be found by method and path.

    `shared`: limits are counted by a store that all nodes share, which is asked after the steps. `log` takes note
    of what counted against quotas. `clock` tells nanoseconds, for the time of each stage; without it none is taken.
    """
    router: Router[CompiledOperation] = Router()
    cap = None
    if snapshot.cap:
        cap = Limiter("@cap", "platform", snapshot.cap, reason="over-capacity")
        counters.bind(cap)
    plans = Plans(snapshot, counters)
    shop = _Workshop(directory, material, counters, plans, snapshot.environment, shared, cap, log, clock)
    for version in sorted(snapshot.versions, key=lambda version: -len(version.base_path)):
        for operation in version.operations:
            compiled = _compile(version, operation, shop)
            path = version.base_path + ("" if operation.path == "/" else operation.path)
            router.add(operation.method, path, compiled)
            if operation.path == "/":
                router.add(operation.method, version.base_path + "/", compiled)
    return router


def run(call: Call) -> Refusal | None:
    """Run a call through its steps; the first refusal ends it."""
    for step in call.operation.steps:
        refusal = step(call)
        if refusal is not None:
            return refusal
    return None


def is_preflight(method: str, headers: list[Header]) -> bool:
    """Whether a browser asks, before a call, if it may be made (Fetch, 3.2.2)."""
    names = [name for name, _ in headers]
    return method == "OPTIONS" and b"origin" in names and b"access-control-request-method" in names


def answer_preflight(
    router: Router[CompiledOperation], path: bytes, headers: list[Header]
) -> tuple[CompiledOperation | None, bytes, Refusal | None]:
    """Answer a preflight: the operation it is about, the fields to send, and a refusal where it may not call.

    No credential is asked for, and nothing is metered: the call itself will be. Raises `routing.BadPath`.
    """
    fields = dict(headers)
    method = fields[b"access-control-request-method"].decode("latin-1").strip()
    found = router.find(method, path)
    if type(found) is not CompiledOperation:
        return None, b"", Refusal(REASONS["unknown-path" if found is None else "wrong-method"])
    if found.browser is None:
        return found, b"", Refusal(REASONS["browser-closed"], note="no browser access rule holds here")
    names = requested_headers(fields.get(b"access-control-request-headers", b""))
    answer, forbidden = found.browser.preflight(fields[b"origin"], method, names)
    return found, answer, Refusal(REASONS["browser-closed"], note=forbidden) if forbidden else None


def _compile(version: SnapshotVersion, operation: SnapshotOperation, shop: _Workshop) -> CompiledOperation:
    by_stage: dict[Stage, list[tuple[PlacedPolicy, Compiled]]] = {stage: [] for stage in Stage}
    body_limit = DEFAULT_BODY_LIMIT
    is_open = wants_form = False
    browser: BrowserRule | None = None
    secret: set[str] = set()
    for placed in operation.policies:
        compiled = shop.compile(placed, version)
        by_stage[kind_of(placed.policy).stage].append((placed, compiled))
        if compiled.body_limit is not None:
            body_limit = min(body_limit, compiled.body_limit)
        is_open = is_open or compiled.open
        wants_form = wants_form or compiled.wants_form
        browser = compiled.browser or browser
        secret.update(compiled.secret)
    outer = [(placed, shop.compile(placed, version)) for placed in operation.outer_identify]
    for _, compiled in outer:
        secret.update(compiled.secret)
    guard = sorted(by_stage[Stage.GUARD], key=lambda pair: pair[1].browser is None)  # refusals carry its fields too
    ways = [(placed, way) for placed, way in by_stage[Stage.IDENTIFY] if way.identify is not None]
    named = [_named(Stage.GUARD, *pair) for pair in guard if pair[1].step is not None]
    if version.state == "retired":
        named = [NamedStep(Stage.GUARD, lambda call: _RETIRED, (Part("Retired", "", "built in"),))]
    else:
        kept = {name for _, way in ways for name in way.secret if not way.strips}
        takers = [way for _, way in outer if kept.isdisjoint(way.secret)]
        if is_open:
            named += _take_off(takers, "Open to anyone")
        elif not ways:
            named.append(NamedStep(Stage.IDENTIFY, lambda call: _CLOSED, (Part("Closed", "", "built in"),)))
        else:
            parts = tuple(_part(placed, way) for placed, way in ways)
            named.append(NamedStep(Stage.IDENTIFY, _identify([(p.policy.name, way) for p, way in ways]), parts))
            named += _take_off(takers, "Other credentials")
            named.append(NamedStep(Stage.PERMIT, _permit(version.api), (Part("Subscription", "", "built in"),)))
        named += [_named(Stage.PERMIT, *pair) for pair in by_stage[Stage.PERMIT] if pair[1].step is not None]
    metered = by_stage[Stage.METER]
    meter: Meter | None = None
    name = f"{operation.method} {operation.path}"
    apart = False
    if (metered or not is_open or shop.cap is not None) and version.state != "retired":
        meter = _meter(version.api, name, metered, is_open, shop)
        apart = shop.shared or bool(meter.smooth)
        parts = tuple(_part(placed, way) for placed, way in metered)
        named.append(NamedStep(Stage.METER, _count(meter, shop.counters), parts))
    return CompiledOperation(
        version.api,
        version.version,
        name,
        version.backend,
        tuple(named),
        body_limit,
        version.base_path,
        browser,
        frozenset(secret),
        wants_form,
        meter if apart else None,
        meter if meter is not None and meter.cost_of is not None else None,
        next((way.limit_fields for _, way in metered if way.limit_fields is not None), standard),
        next((way.tokens_of for _, way in metered if way.tokens_of is not None), None),
        shop.clock,
    )


def _meter(
    api: str, name: str, metered: Sequence[tuple[PlacedPolicy, Compiled]], is_open: bool, shop: _Workshop
) -> Meter:
    pairs = [(way.limiter, way.key) for _, way in metered if way.limiter is not None and way.key is not None]
    if shop.cap is not None:
        pairs.append((shop.cap, lambda call: ""))
    quotas = [(way.quota, way.key) for _, way in metered if way.quota is not None and way.key is not None]
    plans = {} if is_open else shop.plans.meters(api, name)
    cost = max((way.cost for _, way in metered), default=0) or 1
    cost_of = next((way.cost_of for _, way in metered if way.cost_of is not None), None)
    log = shop.log if quotas or any(plan.quota is not None for plan in plans.values()) else None
    return Meter(pairs, plans, cost, quotas, cost_of, log)


def _part(placed: PlacedPolicy, compiled: Compiled) -> Part:
    kind = kind_of(placed.policy)
    title = placed.policy.called or kind.title
    return Part(title, placed.policy.name, placed.placement, compiled.reads, compiled.limiter)


def _named(stage: Stage, placed: PlacedPolicy, compiled: Compiled) -> NamedStep:
    assert compiled.step is not None
    return NamedStep(stage, compiled.step, (_part(placed, compiled),))


def _take_off(ways: Sequence[Compiled], title: str) -> list[NamedStep]:
    """Credentials that are not asked for here are taken off all the same: they are not the backend's."""
    takers = tuple(way.take_off for way in ways if way.take_off is not None)
    if not takers:
        return []

    def step(call: Call) -> Refusal | None:
        for take in takers:
            take(call)
        return None

    return [NamedStep(Stage.IDENTIFY, step, (Part(title, "", "built in"),))]


def _identify(ways: Sequence[tuple[str, Compiled]]) -> Step:
    """Try the ways in their order; the one whose credential is shown decides. All credentials are taken off.

    Two credentials in one call are refused. A way that only finds that a token is not its own yields to
    another way that reads the same place.
    """
    challenges = tuple(dict.fromkeys((b"www-authenticate", way.challenge) for _, way in ways if way.challenge))
    missing = Refusal(REASONS["no-credential"], challenges)
    revoked = Refusal(_REVOKED, challenges)
    expired = Refusal(_EXPIRED, challenges)
    doubled = Refusal(REASONS["doubled-credential"])

    def settle(call: Call, found: Caller, name: str) -> Refusal | None:
        call.caller = found
        call.way = name
        if found.revoked:
            return revoked
        if found.expires_at and found.expires_at <= call.now:
            return expired
        if found.networks is not None and call.address not in found.networks:
            return _CREDENTIAL_ADDRESS
        if found.sites is not None and not found.sites.match(site_called_from(call)):
            return _CREDENTIAL_SITE
        return None

    if len(ways) == 1:
        only_name, only_way = ways[0]
        only: Identify = only_way.identify  # type: ignore[assignment]

        def one_way(call: Call) -> Refusal | None:
            found = only(call)
            if found is None:
                return missing
            if type(found) is Refusal:
                return found
            return settle(call, found, only_name)  # type: ignore[arg-type]

        return one_way

    prepared = tuple((name, way.identify, way.place) for name, way in ways if way.identify is not None)

    def any_way(call: Call) -> Refusal | None:
        shown: Caller | Refusal | None = None
        shown_at = way_name = ""
        yielding: Refusal | None = None
        yielding_at: list[str] = []
        for name, way, place in prepared:
            before = call.headers
            found = way(call)
            if found is None:
                continue
            if type(found) is Refusal and found.yields:
                if yielding is None or yielding.reason.code == "wrong-issuer":
                    yielding = found
                yielding_at.append(place)
                if place:
                    call.headers = before  # the next way reads the same place
                continue
            if shown is not None:
                return doubled
            shown, shown_at, way_name = found, place, name
        for take in takers:
            take(call)
        if shown is None:
            return yielding or missing
        if any(place != shown_at for place in yielding_at):
            return doubled
        if isinstance(shown, Refusal):
            return shown
        return settle(call, shown, way_name)

    takers = tuple(way.take_off for _, way in ways if way.take_off is not None and way.place and way.strips)
    return any_way


def _permit(api: str) -> Step:
    """A subscription in force for this API: holds wherever a caller is identified."""

    def step(call: Call) -> Refusal | None:
        caller = call.caller
        assert caller is not None
        if caller.paused:
            return _APPLICATION_PAUSED
        grant = caller.grants.get(api)
        if grant is None:
            return _NOT_SUBSCRIBED
        if grant.paused:
            return _SUBSCRIPTION_PAUSED
        call.grant = grant
        return None

    return step


def _count(meter: Meter, counters: CounterStore) -> Step:
    """Count a call in a store that answers at once."""
    take, cost = counters.take, meter.cost

    def step(call: Call) -> Refusal | None:
        asked = meter.asked(call)
        return meter.settle(call, asked, take(asked, call.now, cost)) if asked else None

    return step


__all__ = [
    "CompiledOperation",
    "NamedStep",
    "Part",
    "Plans",
    "answer_preflight",
    "compile_router",
    "is_preflight",
    "run",
]
