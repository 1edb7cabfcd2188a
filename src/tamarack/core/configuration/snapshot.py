"""The snapshot: what a rollout sends to the nodes, with every placement already resolved.

It is JSON with a schema version; a node refuses one it cannot read and goes on serving the last it could.
"""

from collections.abc import Callable, Mapping
from datetime import date, datetime
from functools import cache
from typing import Any, Literal

from pydantic import model_validator

from tamarack.core.balancing.breaker import BreakerRules
from tamarack.core.balancing.health import HealthRules
from tamarack.core.checking.described import DescribedMessages, SchemaSets
from tamarack.core.checking.describing import Describer
from tamarack.core.configuration.backend import SameFor, Sharing, TurnedAway
from tamarack.core.configuration.effective import held, in_force, on_fields
from tamarack.core.configuration.model import Configuration, Operation, State, Version, bind_written, every_policy
from tamarack.core.configuration.plans import PlanPart
from tamarack.core.graphql.described import schema_in
from tamarack.core.graphql.views.rest_view import views_in
from tamarack.core.http.backend_sign_in import SignInKind
from tamarack.core.language_models.offered_models import ModelLine
from tamarack.core.life_cycle.brown_outs import BrownOut
from tamarack.core.life_cycle.ending import standing_successor
from tamarack.core.life_cycle.trial import Trial
from tamarack.core.life_cycle.version_naming import VersionNaming
from tamarack.core.limits.quota import Quota
from tamarack.core.limits.window import Window
from tamarack.core.mocking.documented import DocumentedAnswer, documented_answers, with_typed
from tamarack.core.policies import AnyPolicy, kind_of
from tamarack.core.policies.written import bind
from tamarack.core.stages import Stage
from tamarack.core.types import Frozen
from tamarack.core.written.kind import WrittenKind

SCHEMA: Literal[1] = 1


class PlacedPolicy(Frozen):
    """A policy in force, and the id of its placement."""

    placement: str
    policy: AnyPolicy
    field: str = ""
    """The field of a graph that it stands on, `Type.field` or `Type.*`; empty for what holds for whole calls."""


class SnapshotOperation(Frozen):
    """An operation with the policies that hold for it, in the order they run.

    `outer_identify` are the ways to identify that were replaced further in: their credentials are taken
    off a call all the same, so that a key never reaches the backend by way of an operation that ignores it.
    """

    method: str
    path: str
    policies: tuple[PlacedPolicy, ...] = ()
    outer_identify: tuple[PlacedPolicy, ...] = ()
    answers: tuple[DocumentedAnswer, ...] = ()
    """What a mock may answer, where one holds."""
    messages: DescribedMessages | None = None
    """What its description says of requests and answers, where a check holds."""
    view: tuple[str, str] | None = None
    """The GraphQL document that it is a REST view of, and what of the answer it gives; None for what is no view."""


class SnapshotVersion(Frozen):
    """A version that takes calls."""

    api: str
    title: str
    version: str
    state: State
    base_path: str
    backend: str
    operations: tuple[SnapshotOperation, ...] = ()
    deprecated_on: date | None = None
    sunset_on: date | None = None
    successor: str = ""
    """The version that takes its place and answers; empty for none."""
    successor_path: str = ""
    """That version's base path."""
    brown_outs: tuple[BrownOut, ...] = ()
    trial: Trial | None = None
    naming: VersionNaming | None = None
    closed_at: datetime | None = None
    """From when on subscriptions that are made do not cover it."""
    schemas: SchemaSets = SchemaSets()
    """What the operations' messages refer to."""
    graph: str | None = None
    """The schema of a GraphQL API, in its own language; empty where none is known, None for what is no such API."""


class SnapshotTarget(Frozen):
    """One address that calls may go to."""

    address: str
    weight: int = 1
    priority: int = 0
    capacity: int = 0
    secret: str = ""

    @model_validator(mode="before")
    @classmethod
    def _plain(cls, value: Any) -> Any:
        """Rollouts of earlier releases hold the address alone."""
        return {"address": value} if isinstance(value, str) else value


class SnapshotBackend(Frozen):
    """A backend with the targets of this environment."""

    name: str
    targets: tuple[SnapshotTarget, ...]
    connect_timeout_ms: int
    read_timeout_ms: int
    verify_tls: bool
    first_timeout_ms: int = 0
    whole_timeout_ms: int = 0
    turned_away: TurnedAway = "answer the caller"
    models: tuple[ModelLine, ...] = ()
    kept_for: tuple[str, ...] = ()
    kept_from: int = 100
    sharing: Sharing = "by weight"
    same_for: SameFor = ""
    same_header: str = ""
    breaker: BreakerRules | None = None
    health: HealthRules | None = None
    sign_in: SignInKind = "none"
    sign_in_name: str = ""
    sign_in_secret: str = ""
    authorities: str = ""
    certificate_secret: str = ""


class SnapshotPlan(Frozen):
    """A plan's limits."""

    product: str
    plan: str
    title: str
    limits: tuple[Window, ...] = ()
    parts: tuple[PlanPart, ...] = ()
    quota: Quota | None = None
    tokens: Quota | None = None
    """Its budget of tokens."""


class Snapshot(Frozen):
    """Everything a node needs, but for callers, who come by the feed."""

    schema_version: Literal[1] = SCHEMA
    environment: str
    versions: tuple[SnapshotVersion, ...] = ()
    backends: tuple[SnapshotBackend, ...] = ()
    plans: tuple[SnapshotPlan, ...] = ()
    products: dict[str, tuple[str, ...]] = {}
    """Which APIs each product packages."""
    cap: tuple[Window, ...] = ()
    """What the environment carries at most."""
    kinds: tuple[WrittenKind, ...] = ()
    """The written kinds that policies here are of."""

    @property
    def authorities(self) -> str:
        """Who signs the certificates (PEM) that callers may show, whichever policy asks for them; empty for none."""
        found = (
            kind_of(one.policy).authorities(one.policy)
            for version in self.versions
            for operation in version.operations
            for one in operation.policies
        )
        return "\n".join(dict.fromkeys(pem for pem in found if pem))

    @model_validator(mode="after")
    def _bound(self) -> "Snapshot":
        placed = [one.policy for version in self.versions for operation in version.operations
                  for one in (*operation.policies, *operation.outer_identify)]  # fmt: skip
        bind(placed, {kind.name: kind for kind in self.kinds})
        return self


Documents = Callable[[str], dict[str, Any]]
"""Gives the tree of a document by its SHA-256; empty where there is none."""


def answers_of(version: Version, operation: Operation, documents: Documents) -> tuple[DocumentedAnswer, ...]:
    """The answers of an operation: documented, and those typed in its place or beside."""
    tree = documents(version.document) if version.document else {}
    documented = documented_answers(tree, operation.call) if tree else []
    return tuple(with_typed(documented, operation.answers))


def compile_snapshot(
    configuration: Configuration,
    environment: str,
    documents: Documents = lambda sha256: {},
    closed_at: Mapping[tuple[str, str], datetime] | None = None,
) -> Snapshot:
    """Resolve a configuration for one environment. Drafts of versions are left out.

    Answers of mocks are made here, from the descriptions that `documents` gives. `closed_at` says by API and version
    since when one is closed to new subscribers; it counts while that one is deprecated.
    """
    bind_written(configuration)
    placed = {policy.kind for policy in every_policy(configuration)}
    versions = []
    documents = cache(documents)
    for api in configuration.apis:
        for version in api.versions:
            if version.state == "draft":
                continue
            operations = []
            tree = documents(version.document) if version.document else {}
            describer = Describer(tree)
            views = views_in(tree) if api.style == "graphql" else {}
            fields = tuple(
                PlacedPolicy(placement=row.placement.id, policy=row.policy, field=row.placement.call.partition(" ")[2])
                for row in (in_force(on_fields(api, version)) if api.style == "graphql" else ())
            )
            for operation in version.operations:
                rows = held(configuration, api, version, operation)
                now = in_force(rows)
                mocked = any(kind_of(row.policy).mocks for row in now)
                checked = any(kind_of(row.policy).describes for row in now)
                ways = [row for row in rows if row.stage is Stage.IDENTIFY and not kind_of(row.policy).opens]
                outer = [row for row in ways if not row.holds]
                operations.append(
                    SnapshotOperation(
                        method=operation.method,
                        path=operation.path,
                        policies=(
                            *(PlacedPolicy(placement=row.placement.id, policy=row.policy) for row in now),
                            *fields,
                        ),
                        outer_identify=tuple(
                            PlacedPolicy(placement=row.placement.id, policy=row.policy) for row in outer
                        ),
                        answers=answers_of(version, operation, documents) if mocked else (),
                        messages=describer.messages(operation.call) if checked else None,
                        view=views.get(operation.call),
                    )
                )
            successor = standing_successor(api, version)
            versions.append(
                SnapshotVersion(
                    api=api.name,
                    title=api.title,
                    version=version.version,
                    state=version.state,
                    base_path=version.base_path,
                    backend=version.backend,
                    operations=tuple(operations),
                    deprecated_on=version.deprecated_on,
                    sunset_on=version.sunset_on,
                    successor=successor.version if successor is not None else "",
                    successor_path=successor.base_path if successor is not None else "",
                    brown_outs=version.brown_outs if version.state == "deprecated" else (),
                    trial=version.open_trial,
                    naming=api.naming,
                    graph=schema_in(tree) if api.style == "graphql" else None,
                    schemas=describer.schemas(),
                    closed_at=(closed_at or {}).get((api.name, version.version))
                    if version.state == "deprecated"
                    else None,
                )
            )
    return Snapshot(
        environment=environment,
        versions=tuple(versions),
        backends=tuple(
            SnapshotBackend(
                name=backend.name,
                targets=tuple(
                    SnapshotTarget(
                        address=target.address,
                        weight=target.weight,
                        priority=target.priority,
                        capacity=target.capacity,
                        secret=target.secret,
                    )
                    for target in backend.targets_in(environment)
                ),
                connect_timeout_ms=backend.connect_timeout_ms,
                read_timeout_ms=backend.read_timeout_ms,
                verify_tls=backend.verify_tls,
                first_timeout_ms=backend.first_timeout_ms,
                whole_timeout_ms=backend.whole_timeout_ms,
                turned_away=backend.turned_away,
                models=backend.models,
                kept_for=backend.kept_for,
                kept_from=backend.kept_from,
                sharing=backend.sharing,
                same_for=backend.same_for,
                same_header=backend.same_header,
                breaker=backend.breaker,
                health=backend.health,
                sign_in=backend.sign_in,
                sign_in_name=backend.sign_in_name,
                sign_in_secret=backend.sign_in_secret,
                authorities=backend.authorities,
                certificate_secret=backend.certificate_secret,
            )
            for backend in configuration.backends
            if backend.targets_in(environment)
        ),
        plans=tuple(
            SnapshotPlan(
                product=product.name,
                plan=plan.name,
                title=plan.title,
                limits=plan.limits,
                parts=plan.parts,
                quota=plan.quota,
                tokens=plan.tokens,
            )
            for product in configuration.products
            for plan in product.plans
        ),
        products={product.name: product.apis for product in configuration.products},
        kinds=tuple(kind for kind in configuration.kinds if kind.kind in placed),
        cap=cap.limits if (cap := configuration.cap(environment)) is not None else (),
    )
