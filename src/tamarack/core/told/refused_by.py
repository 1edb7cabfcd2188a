"""What refused a recorded call, in words: the policy, limit or plan that its record names, and where that stands."""

from typing import Protocol

from tamarack.core.configuration.effective import held
from tamarack.core.configuration.model import Configuration
from tamarack.core.policies import kind_of

_OF_PLANS_TOO = frozenset(("over-quota", "over-tokens", "too-many-tokens"))


class RefusedCall(Protocol):
    """The fields of a record that say what refused it."""

    reason: str
    policy: str
    plan: str
    api: str
    version: str
    operation: str


def refused_by(configuration: Configuration, call: RefusedCall) -> str:
    """What refused a call under the configuration that carried it; empty where its record names nothing.

    A name that the configuration does not know is given as it stands.
    """
    if not call.policy:
        return ""
    if call.reason == "over-capacity":
        return "The platform's cap"
    if call.reason == "over-plan" or (call.reason in _OF_PLANS_TOO and call.policy in call.plan.split("/")):
        return f"The plan `{call.plan or call.policy}`"
    api = configuration.api(call.api)
    version = api.version(call.version) if api is not None else None
    operation = version.operation(call.operation) if version is not None else None
    known = {}
    if api is not None and version is not None:
        # The innermost of a name comes last, and is the one that holds.
        known = {row.policy.name: row for row in held(configuration, api, version, operation)}
    said = []
    for name in call.policy.split(", "):
        row = known.get(name)
        title = row.policy.called or kind_of(row.policy).title if row is not None else ""
        said.append(f"{title} (`{name}`, placed on {row.placement.id})" if row is not None else f"`{name}`")
    return " or ".join(said)
