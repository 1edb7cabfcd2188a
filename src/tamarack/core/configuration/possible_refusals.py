"""Why a call of an operation may be refused: every reason that its rules can give, for the reference.

A test sends calls of all kinds through the rules and sees that no other reason comes up.
"""

from collections.abc import Sequence

from tamarack.core.carrying.refusals import REASONS, Reason
from tamarack.core.configuration.effective import answers_alone, closed, held, in_force, is_open, on_fields
from tamarack.core.configuration.explain import SUBSCRIPTION_REASONS
from tamarack.core.configuration.model import Api, Configuration, Operation, Version
from tamarack.core.configuration.plans import Plan
from tamarack.core.policies import kind_of

_GRAPH = frozenset(("bad-graphql", "unknown-graphql-field", "over-graphql-limit", "too-large"))
_VIEW = frozenset(("bad-parameter", "nothing-found", "graph-failed", "answer-unreadable"))


def possible_refusals(
    configuration: Configuration, api: Api, version: Version, operation: Operation | None, plans: Sequence[Plan] = ()
) -> list[Reason]:
    """The reasons that an operation's rules can give a caller under some plans (any, without), by status."""
    if version.state == "retired":
        return [REASONS["retired"]]
    rows = held(configuration, api, version, operation)
    codes: set[str] = set() if answers_alone(rows) else {"backend-away", "backend-broken", "backend-slow"}
    if closed(version, rows):
        return [REASONS["closed"]]
    if configuration.caps:
        codes.add("over-capacity")
    for row in in_force((*rows, *on_fields(api, version))):
        codes.update(kind_of(row.policy).reasons)
    if api.style == "graphql":
        codes |= _GRAPH
        if operation is None or operation.call == "get /":
            codes.add("no-web-socket")
        if operation is None or operation.path != "/":
            codes |= _VIEW
    if version.state == "deprecated" and version.brown_outs:
        codes.add("brown-out")
    trial = version.open_trial
    if trial is not None:
        codes |= {"over-rate", "not-metered"}
    if not is_open(rows) and trial is not None and not trial.invited:
        codes |= {"application-paused"}
    elif not is_open(rows):
        codes |= {"no-credential", *SUBSCRIPTION_REASONS}
    if not is_open(rows):
        offered = [plan for product in configuration.products_with(api.name) for plan in product.plans]
        plans = plans or offered
        call = operation.call if operation is not None else ""
        if any(one.limits_for(api.name, call) for one in plans):
            codes |= {"over-plan", "not-metered"}
        if any(one.quota is not None for one in plans):
            codes |= {"over-quota", "not-metered"}
        if any(one.tokens is not None for one in plans) and any(
            kind_of(row.policy).reads_prompts for row in in_force(rows)
        ):
            codes |= {"over-tokens", "too-many-tokens", "not-metered"}
    backend = configuration.backend(version.backend)
    if "backend-away" in codes and backend is not None and backend.sign_in != "none":
        codes.add("secret-missing")
    if "backend-away" in codes and backend is not None and backend.models:
        codes.add("unknown-model")
    if "backend-away" in codes and backend is not None and backend.kept_for:
        codes.add("capacity-kept")
    if "backend-away" in codes and backend is not None and backend.breaker is not None:
        codes.add("breaker-open")
    return sorted((REASONS[code] for code in codes), key=lambda reason: (reason.status, reason.code))
