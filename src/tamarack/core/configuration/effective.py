"""Which policies hold for an operation: the one place that resolves placements.

The drawing, the sentences, the review and the snapshot all read this, so they cannot disagree.

The rules: a placement further in (an operation in an API, an API in everything) replaces a policy of the
same name placed further out. Ways to identify are replaced as a whole: the innermost placement that has
any decides who may be known how, and whether the operation is open. Of a kind that stands alone, like
browser access, the innermost holds. What is switched off holds nowhere, and replaces nothing.
"""

from collections.abc import Iterable
from dataclasses import dataclass

from tamarack.core.configuration.model import FIELD_METHOD, Api, Configuration, Operation, Version
from tamarack.core.policies import AnyPolicy, kind_of
from tamarack.core.stages import Stage


@dataclass(frozen=True, slots=True)
class Placement:
    """Where a policy is put: everywhere (no API), on a version of an API, or on one operation of it."""

    api: str = ""
    version: str = ""
    call: str = ""

    @property
    def level(self) -> str:
        if not self.api:
            return "everywhere"
        return "operation" if self.call else "api"

    @property
    def is_field(self) -> bool:
        """Whether it is a field of a graph: what stands there holds beside all others, and replaces none."""
        return self.call.startswith(f"{FIELD_METHOD} ")

    @property
    def id(self) -> str:
        """The same from rollout to rollout; limits count under it."""
        return "/".join(part for part in (self.api, self.version, self.call) if part) or "everywhere"


EVERYWHERE = Placement()


@dataclass(frozen=True, slots=True)
class Held:
    """A policy at its placement, and the placement that replaces it for this operation, if any."""

    placement: Placement
    stage: Stage
    policy: AnyPolicy
    replaced_by: Placement | None = None

    @property
    def holds(self) -> bool:
        """Whether it is in force: not replaced, and not switched off."""
        return self.replaced_by is None and not self.policy.off


def placed(
    configuration: Configuration, api: Api, version: Version, operation: Operation | None
) -> list[tuple[Placement, tuple[AnyPolicy, ...]]]:
    """The placements that reach an operation (or the whole API), the outermost first."""
    rows: list[tuple[Placement, tuple[AnyPolicy, ...]]] = [
        (EVERYWHERE, configuration.everywhere),
        (Placement(api.name, version.version), version.policies),
    ]
    if operation is not None:
        rows.append((Placement(api.name, version.version, operation.call), operation.policies))
    return rows


def held(configuration: Configuration, api: Api, version: Version, operation: Operation | None = None) -> list[Held]:
    """Every policy that reaches an operation, the replaced ones too, outermost first."""
    rows = placed(configuration, api, version, operation)
    found = []
    for place, (placement, policies) in enumerate(rows):
        for policy in policies:
            stage = kind_of(policy).stage
            inner = next((p for p, own in rows[place + 1 :] if not p.is_field and _replaces(policy, own)), None)
            found.append(Held(placement, stage, policy, inner))
    return found


def _replaces(outer: AnyPolicy, policies: Iterable[AnyPolicy]) -> bool:
    kind = kind_of(outer)
    policies = [policy for policy in policies if not policy.off]
    if kind.stage is Stage.IDENTIFY:
        return any(kind_of(policy).stage is Stage.IDENTIFY for policy in policies)
    return any(
        policy.kind == outer.kind if kind.alone else policy.name == outer.name and kind_of(policy).stage is kind.stage
        for policy in policies
    )


def on_fields(api: Api, version: Version) -> list[Held]:
    """The policies of a graph's fields: they hold, beside all others, for calls whose documents ask for the field."""
    return [
        Held(Placement(api.name, version.version, one.call), kind_of(policy).stage, policy)
        for one in version.fields
        for policy in one.policies
    ]


def in_force(rows: Iterable[Held]) -> list[Held]:
    """Those that hold, in the order of the stages."""
    order = list(Stage)
    return sorted((row for row in rows if row.holds), key=lambda row: order.index(row.stage))


def is_open(rows: Iterable[Held]) -> bool:
    """Whether anyone may call: said by an `open` policy in force."""
    return any(kind_of(row.policy).opens for row in rows if row.holds)


def is_closed(rows: Iterable[Held]) -> bool:
    """Whether nobody may call, since nothing says how a caller is known."""
    return not any(row.stage is Stage.IDENTIFY for row in rows if row.holds)


def tried_freely(version: Version) -> bool:
    """Whether it is a preview that anyone may try, without a credential."""
    trial = version.open_trial
    return trial is not None and not trial.invited


def opened(version: Version, rows: Iterable[Held]) -> bool:
    """Whether calls need no credential: by a policy, or because a preview may be tried by anyone."""
    return is_open(rows) or tried_freely(version)


def closed(version: Version, rows: Iterable[Held]) -> bool:
    """Whether nobody may call: nothing says how a caller is known, and none may stay unknown."""
    return is_closed(rows) and not opened(version, rows)


def answers_alone(rows: Iterable[Held]) -> bool:
    """Whether a policy in force answers every call, so that no backend is asked."""
    return any(kind_of(row.policy).stands_alone(row.policy) for row in in_force(rows))
