"""The snapshot: what a rollout sends to the nodes, with every placement already resolved.

It is JSON with a schema version; a node refuses one it cannot read and goes on serving the last it could.
"""

from typing import Literal

from tamarack.core.configuration.effective import held, in_force
from tamarack.core.configuration.model import Configuration, State
from tamarack.core.configuration.plans import PlanPart
from tamarack.core.http.backend_sign_in import SignInKind
from tamarack.core.limits.quota import Quota
from tamarack.core.limits.window import Window
from tamarack.core.policies import AnyPolicy, kind_of
from tamarack.core.stages import Stage
from tamarack.core.types import Frozen

SCHEMA: Literal[1] = 1


class PlacedPolicy(Frozen):
    """A policy in force, and the id of its placement."""

    placement: str
    policy: AnyPolicy


class SnapshotOperation(Frozen):
    """An operation with the policies that hold for it, in the order they run.

    `outer_identify` are the ways to identify that were replaced further in: their credentials are taken
    off a call all the same, so that a key never reaches the backend by way of an operation that ignores it.
    """

    method: str
    path: str
    policies: tuple[PlacedPolicy, ...] = ()
    outer_identify: tuple[PlacedPolicy, ...] = ()


class SnapshotVersion(Frozen):
    """A version that takes calls."""

    api: str
    title: str
    version: str
    state: State
    base_path: str
    backend: str
    operations: tuple[SnapshotOperation, ...] = ()


class SnapshotBackend(Frozen):
    """A backend with the targets of this environment."""

    name: str
    targets: tuple[str, ...]
    connect_timeout_ms: int
    read_timeout_ms: int
    verify_tls: bool
    sign_in: SignInKind = "none"
    sign_in_name: str = ""
    sign_in_secret: str = ""


class SnapshotPlan(Frozen):
    """A plan's limits."""

    product: str
    plan: str
    title: str
    limits: tuple[Window, ...] = ()
    parts: tuple[PlanPart, ...] = ()
    quota: Quota | None = None


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


def compile_snapshot(configuration: Configuration, environment: str) -> Snapshot:
    """Resolve a configuration for one environment. Drafts of versions are left out."""
    versions = []
    for api in configuration.apis:
        for version in api.versions:
            if version.state == "draft":
                continue
            operations = []
            for operation in version.operations:
                rows = held(configuration, api, version, operation)
                ways = [row for row in rows if row.stage is Stage.IDENTIFY and not kind_of(row.policy).opens]
                outer = [row for row in ways if row.replaced_by is not None]
                operations.append(
                    SnapshotOperation(
                        method=operation.method,
                        path=operation.path,
                        policies=tuple(
                            PlacedPolicy(placement=row.placement.id, policy=row.policy) for row in in_force(rows)
                        ),
                        outer_identify=tuple(
                            PlacedPolicy(placement=row.placement.id, policy=row.policy) for row in outer
                        ),
                    )
                )
            versions.append(
                SnapshotVersion(
                    api=api.name,
                    title=api.title,
                    version=version.version,
                    state=version.state,
                    base_path=version.base_path,
                    backend=version.backend,
                    operations=tuple(operations),
                )
            )
    return Snapshot(
        environment=environment,
        versions=tuple(versions),
        backends=tuple(
            SnapshotBackend(
                name=backend.name,
                targets=tuple(target.address for target in backend.targets_in(environment)),
                connect_timeout_ms=backend.connect_timeout_ms,
                read_timeout_ms=backend.read_timeout_ms,
                verify_tls=backend.verify_tls,
                sign_in=backend.sign_in,
                sign_in_name=backend.sign_in_name,
                sign_in_secret=backend.sign_in_secret,
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
            )
            for product in configuration.products
            for plan in product.plans
        ),
        products={product.name: product.apis for product in configuration.products},
        cap=cap.limits if (cap := configuration.cap(environment)) is not None else (),
    )
