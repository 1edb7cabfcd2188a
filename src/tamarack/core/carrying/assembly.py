"""Assembly: a snapshot's operations turned into programs. All choices are made here, when a rollout is taken up.

Policies become parts, and one rule folds the parts of any stage; on a call's way only what holds is run.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from hashlib import blake2b
from typing import Any

from tamarack.core.balancing.retrying import RetryRules
from tamarack.core.balancing.route import Route
from tamarack.core.balancing.time_limits import TimeLimits
from tamarack.core.caching.memory import SPACE
from tamarack.core.carrying.asking_models import as_read, reads_prompt, sent_as_read
from tamarack.core.carrying.caching import CacheStore, Caching
from tamarack.core.carrying.call import Call, Published
from tamarack.core.carrying.identifying import Closed, identify, subscribed, take_off
from tamarack.core.carrying.intermission import Intermission, out_for_now
from tamarack.core.carrying.metering import Key, Meter, PlanMeter, QuotaLog, QuotaMeter
from tamarack.core.carrying.parts import (
    Answerer,
    Change,
    Check,
    Cost,
    Filtering,
    Keeping,
    Knowing,
    Limit,
    OnError,
    Opening,
    Part,
    Reading,
    Reply,
    Retrying,
    Screening,
    Step,
    Telling,
    Timing,
    Watch,
    Way,
    check_runner,
)
from tamarack.core.carrying.program import Clock, Operation
from tamarack.core.carrying.receiving import Routed
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.carrying.routing import Router, VersionChoice
from tamarack.core.carrying.steps import Lane, NamedStep, Told, note_end
from tamarack.core.checking.schemas import Described, Library
from tamarack.core.configuration.plans import part_for
from tamarack.core.configuration.snapshot import PlacedPolicy, Snapshot, SnapshotOperation, SnapshotVersion
from tamarack.core.graphql.calls.answer import as_errors
from tamarack.core.graphql.calls.asked import as_asked, no_web_socket, sent_as_asked
from tamarack.core.graphql.calls.on_field import where_asked
from tamarack.core.graphql.calls.tools import GraphTools, tells_schema
from tamarack.core.graphql.calls.whole_answers import LARGEST as LARGEST_ANSWER
from tamarack.core.graphql.request import JSON as GRAPH_MEDIA
from tamarack.core.graphql.request import LARGEST as LARGEST_GRAPH
from tamarack.core.graphql.views.as_rest import asked_by, given_by, sent_as_document
from tamarack.core.graphql.views.rest_view import RestView, view_of
from tamarack.core.http.fields import Header, field_line, quoted
from tamarack.core.http.heads import Answered
from tamarack.core.identity.directory import Directory
from tamarack.core.identity.material import Material
from tamarack.core.language_models.estimating import Learned
from tamarack.core.language_models.near_equal.kept_answers import NearPrompts
from tamarack.core.language_models.near_equal.question import Embed
from tamarack.core.language_models.usage import usage_of
from tamarack.core.life_cycle.ending import ending_fields, in_words
from tamarack.core.limits.quota import OF_TOKENS
from tamarack.core.limits.store import CounterStore, Limiter
from tamarack.core.limits.told import standard
from tamarack.core.limits.window import Window
from tamarack.core.mocking.choosing import Answers
from tamarack.core.policies import KINDS, Policy, PolicyKind, kind_of
from tamarack.core.policies.kind import Surroundings
from tamarack.core.policies.meter.keys import by_caller
from tamarack.core.sign_in.protected import WELL_KNOWN, described, resource_of
from tamarack.core.stages import Stage
from tamarack.core.told.addresses import NOWHERE, Addresses
from tamarack.core.told.trace import told_by
from tamarack.core.traffic.record import PLACE

DEFAULT_BODY_LIMIT = 1000**3
"""Bytes; what holds where no body size policy does."""

_CLOSED = Refusal(REASONS["closed"])
_DOCUMENT = Told("Document", "", "built in")
_ERRORS = Told("Errors of GraphQL", "", "built in")


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
        self._budgets = {
            key: QuotaMeter(plan.tokens, f"{OF_TOKENS}{plan.product}", plan.plan, counters, "over-tokens")
            for key, plan in self._plans.items()
            if plan.tokens is not None
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
            if limiter is not None or key in self._quotas or key in self._budgets:
                found[key] = PlanMeter(limiter, self._quotas.get(key), self._budgets.get(key))
        return found

    def _limiter(self, id: str, name: str, limits: tuple[Window, ...]) -> Limiter:
        made = self._limiters.get(id)
        if made is None:
            made = self._limiters[id] = Limiter(id, name, limits, reason="over-plan")
            self._counters.bind(made)
        return made


@dataclass(slots=True)
class Workshop:
    """What programs are put together with.

    `log` takes note of what counted against quotas. `clock` tells nanoseconds, for the time of each stage; without it
    none is taken. `routes` are the ways to the backends by name; without them calls are decided over and go nowhere.
    """

    directory: Directory
    material: Material
    counters: CounterStore
    environment: str
    log: QuotaLog | None = None
    clock: Clock | None = None
    routes: Mapping[str, Route] | None = None
    kinds: Mapping[str, PolicyKind] = field(default_factory=lambda: KINDS)
    cache: CacheStore | None = None
    """Where answers are kept; without it none is, and what a policy says of it is decided all the same."""
    addresses: Addresses = NOWHERE
    """Answers of deprecated versions lead to the portal, and challenges to where tokens come from."""
    backends: Mapping[str, str] = field(default_factory=dict)
    """What each backend is, as text: kept answers of one are no answers of another."""
    embed: Embed | None = None
    """The meaning of a text; without it prompts are compared by their words alone."""
    learned: Learned = field(default_factory=Learned)
    """What answers of language models told, for estimates of calls that come."""
    _graphs: dict[str, GraphTools] = field(default_factory=dict)
    _made: dict[tuple[PlacedPolicy, str, str], tuple[Part, ...]] = field(default_factory=dict)
    _limiters: dict[str, Limiter] = field(default_factory=dict)

    def parts_of(
        self, placed: PlacedPolicy, version: SnapshotVersion, name: str = "", described: Described | None = None
    ) -> tuple[Part, ...]:
        """A placed policy's parts, made once, so that the operations of a placement share what they keep.

        Those that go by what is `described` are made for each operation, of that name.
        """
        kind = self.kind_of(placed.policy)
        resource = resource_of(self.addresses.gateway, version.base_path) if kind.names_resource else ""
        key = (placed, version.title, f"{version.version} {name}" if kind.describes else resource)
        found = self._made.get(key)
        if found is None:
            realm = quoted(version.title)
            surroundings = Surroundings(
                self.directory, self.material, self.environment, placed.placement, realm, self.counters, described,
                resource,
            )  # fmt: skip
            found = tuple(kind.compile(placed.policy, surroundings))
            if placed.field:
                found = tuple(where_asked(placed.field, part) for part in found)
            self._made[key] = found
            for part in found:
                check_runner(part)
                if isinstance(part, Limit) and part.limiter is not None:
                    self.counters.bind(part.limiter)
        return found

    def graph(self, schema: str) -> GraphTools:
        """What reads documents of a schema, made once for all operations of it."""
        found = self._graphs.get(schema)
        if found is None:
            found = self._graphs[schema] = GraphTools(schema)
        return found

    def limiter(self, id: str, name: str, limits: tuple[Window, ...]) -> Limiter:
        """A limiter that is no policy's, made once for all operations that share it."""
        found = self._limiters.get(id)
        if found is None:
            found = self._limiters[id] = Limiter(id, name, limits)
            self.counters.bind(found)
        return found

    def told(self, placed: PlacedPolicy, part: Part) -> Told:
        """How a trace names a part."""
        policy = placed.policy
        return Told(policy.called or self.kind_of(policy).title, policy.name, placed.placement, part)

    def kind_of(self, policy: Policy) -> PolicyKind:
        """The kind of a policy, of the table that programs are put together with."""
        return self.kinds.get(policy.kind) or kind_of(policy)


def assemble(snapshot: Snapshot, shop: Workshop) -> Router[Routed]:
    """Every operation of a snapshot, ready to be found by method and path.

    Raises `parts.NoRunner` for a policy that would be without effect.
    """
    router: Router[Routed] = Router()
    cap = None
    if snapshot.cap:
        cap = Limiter("@cap", "platform", snapshot.cap, reason="over-capacity")
        shop.counters.bind(cap)
    plans = Plans(snapshot, shop.counters)
    shared: dict[str, dict[str, Router[Operation]]] = {}
    for version in sorted(snapshot.versions, key=lambda version: -len(version.base_path)):
        own: Router[Any] = router
        if version.naming is not None:
            own = shared.setdefault(version.base_path, {}).setdefault(version.version, Router())
        library = Library(version.schemas)
        for operation in version.operations:
            assembled = _Folding(version, operation, shop, plans, cap, library).operation()
            path = version.base_path + ("" if operation.path == "/" else operation.path)
            own.add(operation.method, path, assembled)
            if operation.path == "/":
                own.add(operation.method, version.base_path + "/", assembled)
        _describe_resource(router, version, shop)
    for version in snapshot.versions:
        routers = shared.pop(version.base_path, None) if version.naming is not None else None
        if routers is not None and version.naming is not None:
            in_order = {one.version: routers[one.version] for one in snapshot.versions
                        if one.base_path == version.base_path}  # fmt: skip
            choice = VersionChoice(version.title, version.naming, in_order)
            for path in ("", "/", "/*"):
                router.add("any", version.base_path + path, choice)
                router.add("trace", version.base_path + path, choice)
    return router


def _describe_resource(router: Router[Routed], version: SnapshotVersion, shop: Workshop) -> None:
    """Say where tokens for a version come from, at the address that challenges name (RFC 9728, 3)."""
    policies = [placed.policy for operation in version.operations for placed in operation.policies]
    kinds = [(shop.kind_of(policy), policy) for policy in dict.fromkeys(policies)]
    issuers = dict.fromkeys(kind.issuer(policy, shop.addresses.sign_in) for kind, policy in kinds)
    issuers.pop("", None)
    resource = resource_of(shop.addresses.gateway, version.base_path)
    if not issuers or not resource:
        return
    scopes = {scope for kind, policy in kinds for scope in kind.scopes(policy)}
    fields = b"content-type: application/json\r\naccess-control-allow-origin: *\r\ncache-control: max-age=300\r\n"
    body = json.dumps(described(resource, version.title, issuers, scopes)).encode()
    router.add("get", WELL_KNOWN + version.base_path, Reply(200, fields, body))


class _Folding:
    """The parts of one operation, folded into its program."""

    def __init__(
        self,
        version: SnapshotVersion,
        operation: SnapshotOperation,
        shop: Workshop,
        plans: Plans,
        cap: Limiter | None,
        library: Library,
    ) -> None:
        self.version = version
        self.name = f"{operation.method} {operation.path}"
        self.path = operation.path
        self.answers = operation.answers
        self.shop = shop
        self.plans = plans
        self.cap = cap
        described = Described(operation.messages, library) if operation.messages is not None else None
        self.parts: list[tuple[Told, Part]] = [
            (shop.told(placed, part), part)
            for placed in operation.policies
            for part in shop.parts_of(placed, version, self.name, described)
        ]
        self.rules = "\n".join(
            placed.policy.model_dump_json()
            for placed in operation.policies
            if any(
                isinstance(part, Filtering) and not part.last
                for part in shop.parts_of(placed, version, self.name, described)
            )
        )
        """What answers are held against as they pass: those that were kept under other rules are not given."""
        outer = [part for placed in operation.outer_identify for part in shop.parts_of(placed, version)]
        self.outer = [part for part in outer if isinstance(part, Way)]
        self.is_open = any(isinstance(part, Opening) for _, part in self.parts)
        self.retired = version.state == "retired"
        self.reading = self._reading()
        near = any(isinstance(part, Keeping) and part.near is not None for _, part in self.parts)
        self.compares = near and bool(self.reading)
        """Whether its prompts are compared, so that answers of a model are kept."""
        self.trial = version.trial
        self.speaks_graph = version.graph is not None and operation.view is None
        self.graph = shop.graph(version.graph) if version.graph is not None and not self.retired else None
        self.view = self._view_of(operation)
        self.closed = not self.is_open and not self.of(Way)
        if self.closed and self.trial is not None and not self.trial.invited:
            self.closed, self.is_open = False, True

    def _view_of(self, operation: SnapshotOperation) -> RestView | None:
        """The GraphQL document that it is a REST view of."""
        graph = self.graph.documents.graph if self.graph is not None else None
        if operation.view is None or graph is None:
            return None
        return view_of(self.name, *operation.view, graph, whole=False)

    def of(self, kind: type[Part], stage: Stage | None = None) -> list[tuple[Told, Part]]:
        """The parts of a kind, in the order of their policies."""
        return [
            (told, part)
            for told, part in self.parts
            if isinstance(part, kind) and (stage is None or part.stage is stage)
        ]

    def operation(self) -> Operation:
        every = [part for _, part in self.parts]
        checks = [part for part in every if isinstance(part, Check)]
        bounds = [part.body_limit for part in checks if part.body_limit is not None]
        tellers = [part.write for part in every if isinstance(part, Telling)]
        facts = Published(
            self.version.api,
            self.version.version,
            self.name,
            self.version.backend,
            self.version.base_path,
            min(bounds, default=DEFAULT_BODY_LIMIT),
            frozenset(name for part in (*every, *self.outer) for name in part.secret),
            tellers[0] if tellers else standard,
            _parameters(self.version.base_path, self.path),
            Answers(self.answers) if self.answers else None,
            b"".join(field_line(name, value) for name, value in (*self._ending(), *self._varies())),
            self._on_error(),
        )
        meter = self._meter()
        before = self._before()
        metered = [NamedStep(Stage.METER, None, tuple(told for told, _ in self.of(Limit)))] if meter is not None else []
        after = [] if self.retired else [*self._steps(Stage.SHAPE), *self._sent_as_read()]
        if self.graph is not None:
            sent = sent_as_asked if self.view is None else sent_as_document
            after.append(NamedStep(Stage.SHAPE, sent, (_DOCUMENT,)))
        answerers = [] if self.retired else sorted(self.of(Answerer), key=lambda pair: pair[1].last)  # type: ignore[attr-defined]
        if self.graph is not None and self.graph.introspections is not None:
            schema = Answerer(stage=Stage.ANSWER, answer=tells_schema(self.graph.introspections))
            answerers.append((Told("Schema", "", "built in"), schema))
        answering = [NamedStep(Stage.ANSWER, None, (told,)) for told, _ in [*answerers, *self._beside(Stage.ANSWER)]]
        answering += [NamedStep(Stage.FORWARD, None, (told,)) for told, _ in self._beside(Stage.FORWARD)]
        wanting = [part for part in every if part.request_body and not isinstance(part, Reading)]
        wanting += [part for _, part in self.reading]
        reads_graph = self.graph is not None and (self.view is None or self.view.has_body)
        graph_bodies = [(GRAPH_MEDIA, LARGEST_GRAPH)] if reads_graph else []
        first = [step for step in before if step.stage is Stage.GUARD]
        steps = [step for step in before if step.stage is not Stage.GUARD]
        routes = self.shop.routes
        browsers = [part.browser for part in checks if part.browser is not None]
        return Operation(
            facts,
            (*before, *metered, *after, *answering),
            self._lane(first, steps, after, bool(wanting or graph_bodies), self._plain),
            self._lane(first, steps, after, bool(wanting or graph_bodies), lambda steps: tuple(map(told_by, steps))),
            meter=meter,
            answerers=answerers,  # type: ignore[arg-type]
            changes=[*self._changes(), *self._only_one_end()],
            watches=[*(part for part in every if isinstance(part, Watch)), *self._usage()],
            filters=sorted((part for part in every if isinstance(part, Filtering)), key=lambda part: part.last),
            reads=[*((part.media, part.request_body) for part in wanting), *graph_bodies],
            browser=browsers[0] if browsers else None,
            route=(routes.get(self.version.backend) or Route(())) if routes is not None else None,
            clock=self.shop.clock,
            **self._beside_the_backend(),
        )

    def _on_error(self) -> list[tuple[Told, Part]]:
        """What may tell refusals otherwise, in order: where a graph is asked, at last as errors of GraphQL."""
        found = self.of(OnError)
        return [*found, (_ERRORS, OnError(stage=Stage.ON_ERROR, answer=as_errors))] if self.speaks_graph else found

    def _changes(self) -> list[tuple[Told, Change]]:
        """What changes answers, in order."""
        found = [(told, part) for told, part in self.of(Change, Stage.RETURN) if isinstance(part, Change)]
        found.sort(key=lambda pair: not pair[1].first)
        if self.view is not None:  # once nothing closed is left in it, and before anyone else sees it
            first = sum(part.first for _, part in found)
            given = Change(stage=Stage.RETURN, answer=given_by(self.view), answer_body=LARGEST_ANSWER)
            found.insert(first, (_DOCUMENT, given))
        return found

    def _knowing(self) -> Knowing | None:
        """The GraphQL documents that are known by an id."""
        found = [part for _, part in self.of(Knowing) if isinstance(part, Knowing)]
        return found[-1] if found else None

    def _reading(self) -> list[tuple[Told, Reading]]:
        """How calls are read as calls to a language model: the one that holds; none where they are not."""
        found = [(told, part) for told, part in self.parts if isinstance(part, Reading)]
        if self.retired or not found or not reads_prompt(self.name):
            return []
        return [max(reversed(found), key=lambda pair: pair[1].chosen)]

    def _usage(self) -> list[Watch]:
        """What finds out how many tokens calls take."""
        learned, clock = self.shop.learned, self.shop.clock
        return [
            Watch(
                stage=Stage.METER, begin=lambda call, status, headers: usage_of(call, status, headers, learned, clock)
            )
            for _ in self.reading
        ]

    def _sent_as_read(self) -> list[NamedStep]:
        """Calls to a language model go on as they were read."""
        return [NamedStep(Stage.SHAPE, sent_as_read, (told,)) for told, _ in self.reading]

    def _ending(self) -> tuple[Header, ...]:
        """The fields that tell how the version ends."""
        version = self.version
        shown = self.shop.addresses.portal and not self.retired
        page = f"{self.shop.addresses.portal}/apis/{version.api}/{version.version}/" if shown else ""
        return ending_fields(version.deprecated_on, version.sunset_on, version.successor_path, page)

    def _varies(self) -> tuple[Header, ...]:
        """That answers depend on the field that names the version, where one does."""
        naming = self.version.naming
        return ((b"vary", naming.varies_by.encode()),) if naming is not None else ()

    def _only_one_end(self) -> list[tuple[Told, Change]]:
        """Takes off what a backend says of its own end where the gateway says it: each field stands once."""
        ours = {name for name, _ in self._ending()} & {b"deprecation", b"sunset"}
        if not ours:
            return []

        def take_off(call: Call, answer: Answered) -> Refusal | None:
            answer.headers = [header for header in answer.headers if header[0] not in ours]
            return None

        return [(Told("End of the version", "", "built in"), Change(stage=Stage.RETURN, answer=take_off))]

    def _beside_the_backend(self) -> dict[str, Any]:
        """What is kept of the backend's answers, how often it is asked again, and how long it may take."""
        if self.retired:
            return {}
        keeping = [pair for pair in self.of(Keeping) if (pair[1].near is not None) == self.compares]  # type: ignore[attr-defined]
        retrying = [part for _, part in self.of(Retrying) if isinstance(part, Retrying)]
        timing = [part for _, part in self.of(Timing) if isinstance(part, Timing)]
        found: dict[str, Any] = {}
        if keeping:
            told, part = keeping[-1]
            assert isinstance(part, Keeping)
            found = {"caching": self._caching(part), "cached_by": told}
        if retrying:
            rules = retrying[-1]
            found["retry"] = RetryRules(rules.at_most, rules.statuses, rules.share)
        route = (self.shop.routes or {}).get(self.version.backend)
        limits = route.limits if route is not None else None
        if timing:
            one = timing[-1]
            own = TimeLimits(one.connect_s, one.first_s, one.between_s, one.whole_s)
            limits = (
                own if limits is None else TimeLimits(*(mine or its for mine, its in zip(own, limits, strict=True)))
            )
        if limits is not None:
            found["time_limits"] = limits
        return found

    def _caching(self, part: Keeping) -> Caching:
        """The response cache; another policy or another backend begins anew with nothing kept."""
        if part.near is not None and part.near.nearest and self.shop.embed is not None:
            self.shop.embed("ready?")  # so that it is ready when the first call comes
        backend = self.version.backend
        behind = self.shop.backends.get(backend, "")
        about = f"{self.version.version}\n{self.rules}\n{part.policy}\n{part.identity}\n{backend}\n{behind}"
        space = blake2b(about.encode(), digest_size=SPACE).digest()
        return Caching(
            part.policy,
            space,
            part.rules,
            self.shop.cache,
            part.key_parts,
            part.headers,
            part.query,
            posts=part.posts,
            heeds=part.heeds,
            shared=part.shared,
            wait_s=part.wait_s,
            near=NearPrompts(part.near, self.shop.embed) if part.near is not None else None,
        )

    def _beside(self, stage: Stage) -> list[tuple[Told, Part]]:
        """The parts that are no steps: what is kept, retries, time limits."""
        if self.retired:
            return []
        return [pair for kind in (Keeping, Retrying, Timing) for pair in self.of(kind, stage)]

    @staticmethod
    def _lane(
        first: list[NamedStep],
        steps: list[NamedStep],
        after: list[NamedStep],
        reads: bool,
        made: Callable[[list[NamedStep]], tuple[Step, ...]],
    ) -> Lane:
        return Lane(made(first) if reads else (), made(steps) if reads else made([*first, *steps]), made(after))

    def _plain(self, named: list[NamedStep]) -> tuple[Step, ...]:
        """The steps; with a clock, each stage's last is followed by one that notes when the stage ended."""
        clock = self.shop.clock
        steps: list[Step] = []
        for place, one in enumerate(named):
            assert one.step is not None
            steps.append(one.step)
            following = named[place + 1].stage if place + 1 < len(named) else None
            if clock is not None and following is not one.stage and one.stage in PLACE:
                steps.append(note_end(clock, 1 + PLACE[one.stage]))
        return tuple(steps)

    def _steps(self, stage: Stage) -> list[NamedStep]:
        """The checks and changes of a stage."""
        found: list[tuple[Told, Part]] = [
            (told, part)
            for told, part in self.parts
            if part.stage is stage and isinstance(part, Check | Change) and _step_of(part) is not None
        ]
        found.sort(key=lambda pair: not (isinstance(pair[1], Check) and pair[1].first))
        return [NamedStep(stage, _step_of(part), (told,)) for told, part in found]

    def _before(self) -> list[NamedStep]:
        """What runs before the limits."""
        if self.retired:
            refusal = _retired(self.version)
            return [NamedStep(Stage.GUARD, lambda call: refusal, (Told("Retired", "", "built in"),))]
        named = self._steps(Stage.GUARD)
        if self.version.brown_outs:
            step = out_for_now(_intermissions(self.version))
            named.insert(0, NamedStep(Stage.GUARD, step, (Told("Brown-outs", "", "built in"),)))
        if self.speaks_graph:
            named.append(NamedStep(Stage.GUARD, no_web_socket, (Told("WebSockets", "", "built in"),)))
        ways = self.of(Way)
        kept = {name for _, way in ways if isinstance(way, Way) and not way.strips for name in way.secret}
        takers = [way for way in self.outer if kept.isdisjoint(way.secret)]
        if self.is_open:
            named += _taken_off(takers, "Open to anyone")
        elif self.closed:
            named.append(NamedStep(Stage.IDENTIFY, lambda call: _CLOSED, (Told("Closed", "", "built in"),)))
        else:
            optional = self.trial is not None and not self.trial.invited
            step = identify([(told.name, way) for told, way in ways if isinstance(way, Way)], optional)
            named.append(NamedStep(Stage.IDENTIFY, step, tuple(told for told, _ in ways)))
            named += _taken_off(takers, "Other credentials")
            step = subscribed(self.version.api, self.trial, _closed(self.version))
            named.append(NamedStep(Stage.PERMIT, step, (Told("Subscription", "", "built in"),)))
        about = (self.version.api, self.version.version, self.name)
        for told, part in self.reading:
            named.append(NamedStep(Stage.PERMIT, as_read(part.shape, self.shop.learned, about), (told,)))
        if self.graph is not None:
            documents = self.graph.documents
            view = self.view
            screens = [part.look for _, part in self.of(Screening) if isinstance(part, Screening)]
            step = as_asked(documents, self._knowing(), screens) if view is None else asked_by(view, documents)
            named.append(NamedStep(Stage.PERMIT, step, (_DOCUMENT,)))
        return named + self._steps(Stage.PERMIT)

    def _meter(self) -> Meter | None:
        """All that counts calls of the operation; None where nothing does."""
        limits = [part for _, part in self.of(Limit) if isinstance(part, Limit)]
        counting = [part for _, part in self.of(Cost) if isinstance(part, Cost)]
        costs = [part.calls for part in counting]
        cost_of = next((part.of for part in counting if part.of is not None), None)
        trial = self._trial_limit()
        if self.retired or (self.is_open and not limits and not costs and self.cap is None and trial is None):
            return None
        pairs = [(limit.limiter, limit.key) for limit in limits if limit.limiter is not None and limit.when is None]
        some = [(one.limiter or one.quota, one.key, one.when) for one in limits if one.when is not None]
        if self.cap is not None:
            pairs.append((self.cap, _everyone))
        quotas: list[tuple[QuotaMeter, Callable[[Call], str]]] = [
            (limit.quota, limit.key) for limit in limits if limit.quota is not None and limit.when is None
        ]
        plans = {} if self.is_open else self.plans.meters(self.version.api, self.name)
        counted = (
            quotas
            or any(one.quota is not None for one in limits)
            or any(plan.quota is not None for plan in plans.values())
        )
        log = self.shop.log if counted else None
        return Meter(pairs, plans, max(costs, default=1), quotas, log, trial, cost_of, some)

    def _trial_limit(self) -> tuple[Limiter, Key] | None:
        """What calls without a subscription count against while the version is a preview: one count for all of it."""
        trial, version = self.trial, self.version
        if trial is None:
            return None
        return self.shop.limiter(f"@trial/{version.api}/{version.version}", "preview", trial.limits), by_caller


def _parameters(base_path: str, path: str) -> dict[str, int]:
    """The parameters of a path template, and which segment of a call's path each is."""
    first = base_path.count("/")
    segments = enumerate(path[1:].split("/"), first)
    return {segment[1:-1]: place for place, segment in segments if segment[:1] == "{" and segment[-1:] == "}"}


def _everyone(call: Call) -> str:
    return ""


def _step_of(part: Part) -> Step | None:
    if isinstance(part, Check):
        return part.run
    return part.request if isinstance(part, Change) else None


def _instead(version: SnapshotVersion) -> str:
    """What takes a version's place and where, without a full stop; empty where nothing does."""
    if not version.successor:
        return ""
    named = version.naming.fields(version.successor) if version.naming is not None else {}
    how = "".join(f" with {name}: {value}" for name, value in named.items())
    return f"version {version.successor} at {version.successor_path}{how} takes its place"


def _retired(version: SnapshotVersion) -> Refusal:
    """What every call of a retired version is told: what takes its place, where something does."""
    instead = _instead(version)
    title = f"Version {version.version} of {version.title} is no longer offered"
    return Refusal(REASONS["retired"], detail=f"{title}; {instead}." if instead else "")


def _closed(version: SnapshotVersion) -> Closed | None:
    """That newer subscriptions do not cover a deprecated version."""
    if version.closed_at is None:
        return None
    instead = _instead(version)
    called = f"Version {version.version} of {version.title}"
    return Closed(version.closed_at.timestamp(), called, f"{instead[0].upper()}{instead[1:]}." if instead else "")


def _intermissions(version: SnapshotVersion) -> list[Intermission]:
    """The stretches in which a version is out, with what callers are told then."""
    instead = _instead(version)
    end = f" It ends on {in_words(version.sunset_on)}." if version.sunset_on is not None else ""
    found = []
    for one in version.brown_outs:
        called = f"Version {version.version} of {version.title}"
        out = f"{called} is switched off on purpose, {one.said}, because it will be retired"
        detail = f"{out}; {instead}.{end}" if instead else f"{out}.{end}"
        found.append(Intermission(one.at.timestamp(), one.until.timestamp(), detail))
    return found


def _taken_off(ways: Sequence[Way], title: str) -> list[NamedStep]:
    return [NamedStep(Stage.IDENTIFY, take_off(ways), (Told(title, "", "built in"),))] if ways else []
