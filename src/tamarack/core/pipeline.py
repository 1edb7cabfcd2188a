"""The pipeline: a snapshot's operations turned into ready lists of steps, and a call run through them.

All choices are made when a rollout is taken up; on a call's way only the steps that hold are run.
"""

from __future__ import annotations

from collections.abc import Sequence

from tamarack.core.call import Call, Caller, Grant
from tamarack.core.directory import Directory
from tamarack.core.limits.store import CounterStore, Limiter
from tamarack.core.policies import kind_of
from tamarack.core.policies.kind import Compiled, Identify, Step, Surroundings
from tamarack.core.refusals import REASONS, Refusal
from tamarack.core.routing import Router
from tamarack.core.snapshot import PlacedPolicy, Snapshot, SnapshotOperation, SnapshotVersion

DEFAULT_BODY_LIMIT = 1000**3
"""Bytes; what holds where no body size policy does."""

_REVOKED = REASONS["revoked-credential"]
_EXPIRED = REASONS["expired-credential"]
_CLOSED = Refusal(REASONS["closed"])
_NOT_SUBSCRIBED = Refusal(REASONS["not-subscribed"])
_SUBSCRIPTION_PAUSED = Refusal(REASONS["subscription-paused"])
_APPLICATION_PAUSED = Refusal(REASONS["application-paused"])
_RETIRED = Refusal(REASONS["retired"])


class CompiledOperation:
    """An operation ready to carry calls."""

    __slots__ = ("api", "backend", "base_path", "body_limit", "name", "steps", "version")

    def __init__(
        self,
        api: str,
        version: str,
        name: str,
        backend: str,
        steps: tuple[Step, ...],
        body_limit: int,
        base_path: str,
    ) -> None:
        self.api = api
        self.version = version
        self.name = name
        self.backend = backend
        self.steps = steps
        self.body_limit = body_limit
        self.base_path = base_path
        """What comes off a call's path before the rest is put behind the target's own."""


class Plans:
    """The plans' limiters, by product and plan."""

    def __init__(self, snapshot: Snapshot, counters: CounterStore) -> None:
        self._limiters: dict[str, Limiter] = {}
        for plan in snapshot.plans:
            if plan.limits:
                key = f"{plan.product}/{plan.plan}"
                limiter = Limiter(f"plan/{key}", plan.plan, plan.limits, reason="over-plan")
                counters.bind(limiter)
                self._limiters[key] = limiter

    def limiter(self, plan: str) -> Limiter | None:
        """The limiter of `product/plan`, or None where the plan sets no limit."""
        return self._limiters.get(plan)


def compile_router(snapshot: Snapshot, directory: Directory, counters: CounterStore) -> Router[CompiledOperation]:
    """Every operation of a snapshot, ready to be found by method and path."""
    router: Router[CompiledOperation] = Router()
    plans = Plans(snapshot, counters)
    for version in sorted(snapshot.versions, key=lambda version: -len(version.base_path)):
        for operation in version.operations:
            compiled = _compile(version, operation, directory, counters, plans)
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


def _compile(
    version: SnapshotVersion,
    operation: SnapshotOperation,
    directory: Directory,
    counters: CounterStore,
    plans: Plans,
) -> CompiledOperation:
    steps: list[Step] = []
    ways: list[Compiled] = []
    metered: list[Compiled] = []
    body_limit = DEFAULT_BODY_LIMIT
    is_open = False
    for placed in operation.policies:
        compiled = _compile_policy(placed, version, directory)
        if compiled.step is not None:
            steps.append(compiled.step)
        if compiled.body_limit is not None:
            body_limit = min(body_limit, compiled.body_limit)
        if compiled.identify is not None:
            ways.append(compiled)
        if compiled.limiter is not None:
            counters.bind(compiled.limiter)
            metered.append(compiled)
        is_open = is_open or compiled.open
    if version.state == "retired":
        steps = [lambda call: _RETIRED]
    elif is_open:
        outer = [_compile_policy(placed, version, directory) for placed in operation.outer_identify]
        if outer:
            steps.append(_take_off([way.identify for way in outer if way.identify is not None]))
    elif not ways:
        steps.append(lambda call: _CLOSED)
    else:
        steps.append(_identify(ways))
        steps.append(_permit(version.api))
    if metered or not is_open:
        steps.append(_meter(metered, counters, plans))
    name = f"{operation.method} {operation.path}"
    return CompiledOperation(
        version.api, version.version, name, version.backend, tuple(steps), body_limit, version.base_path
    )


def _compile_policy(placed: PlacedPolicy, version: SnapshotVersion, directory: Directory) -> Compiled:
    surroundings = Surroundings(directory, placed.placement, version.title.replace('"', "'"))
    return kind_of(placed.policy).compile(placed.policy, surroundings)


def _take_off(ways: list[Identify]) -> Step:
    def step(call: Call) -> Refusal | None:
        for way in ways:
            way(call)
        return None

    return step


def _identify(ways: Sequence[Compiled]) -> Step:
    """Try the ways in their order; the first whose credential is shown decides. All are taken off."""
    challenges = tuple((b"www-authenticate", way.challenge) for way in ways if way.challenge)
    missing = Refusal(REASONS["no-credential"], challenges)
    revoked = Refusal(_REVOKED, challenges)
    expired = Refusal(_EXPIRED, challenges)
    doubled = Refusal(REASONS["doubled-credential"])
    identifies = tuple(way.identify for way in ways if way.identify is not None)

    def settle(call: Call, found: Caller) -> Refusal | None:
        call.caller = found
        if found.revoked:
            return revoked
        if found.expires_at and found.expires_at <= call.now:
            return expired
        return None

    if len(identifies) == 1:
        only = identifies[0]

        def one_way(call: Call) -> Refusal | None:
            found = only(call)
            if found is None:
                return missing
            if type(found) is Refusal:
                return found
            return settle(call, found)  # type: ignore[arg-type]

        return one_way

    def any_way(call: Call) -> Refusal | None:
        shown: Caller | Refusal | None = None
        for way in identifies:
            found = way(call)
            if found is not None:
                if shown is not None:
                    return doubled
                shown = found
        if shown is None:
            return missing
        if isinstance(shown, Refusal):
            return shown
        return settle(call, shown)

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


def _meter(metered: Sequence[Compiled], counters: CounterStore, plans: Plans) -> Step:
    """All limits that hold, decided at once: the operation's, the API's, everyone's, and the plan's."""
    pairs = tuple((way.limiter, way.key) for way in metered if way.limiter is not None and way.key is not None)
    take = counters.take
    limiter_of = plans.limiter

    def step(call: Call) -> Refusal | None:
        asked: list[tuple[Limiter, str]] = [(limiter, key(call)) for limiter, key in pairs]
        grant: Grant | None = call.grant
        if grant is not None:
            limiter = limiter_of(grant.plan)
            if limiter is not None:
                asked.append((limiter, grant.subscription))
        if not asked:
            return None
        taken = call.taken = take(asked, call.now)
        if taken.admitted:
            return None
        return Refusal(
            REASONS[taken.limiter.reason],
            ((b"retry-after", b"%d" % taken.reset),),
            taken.limiter.name,
            f"{taken.window} used up",
        )

    return step


__all__ = ["CompiledOperation", "Plans", "compile_router", "run"]
