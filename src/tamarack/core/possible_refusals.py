"""Why a call of an operation may be refused: every reason that its rules can give, for the reference.

A test sends calls of all kinds through the rules and sees that no other reason comes up.
"""

from collections.abc import Mapping, Sequence

from tamarack.core.configuration import Api, Configuration, Operation, Version
from tamarack.core.effective import held, in_force, is_closed, is_open
from tamarack.core.plans import Plan
from tamarack.core.refusals import REASONS, Reason

_KEPT = ("unknown-credential", "expired-credential", "revoked-credential", "credential-address", "credential-site",
         "doubled-credential")  # fmt: skip
_TOKEN = ("bad-token", "expired-credential", "early-token", "wrong-issuer", "wrong-audience")

BY_KIND: Mapping[str, tuple[str, ...]] = {
    "open": (),
    "token-count": (),
    "api-key": _KEPT,
    "client-secret": _KEPT,
    "signed-key": (*_KEPT, *_TOKEN),
    "jwt": (*_KEPT, *_TOKEN, "unknown-caller"),
    "addresses": ("address-refused",),
    "referring-site": ("site-refused",),
    "body-size": ("too-large",),
    "browser-access": ("browser-closed",),
    "groups": ("not-in-group", "group-denied"),
    "scopes": ("scope-missing",),
    "claims": ("claim-missing",),
    "rate-limit": ("over-rate", "not-metered"),
    "quota": ("over-quota", "not-metered"),
    "cost": (),
    "limit-fields": (),
}
"""The reasons that a policy of each kind can give."""


def possible_refusals(
    configuration: Configuration, api: Api, version: Version, operation: Operation | None, plans: Sequence[Plan] = ()
) -> list[Reason]:
    """The reasons that an operation's rules can give a caller under some plans (any, without), by status."""
    if version.state == "retired":
        return [REASONS["retired"]]
    rows = held(configuration, api, version, operation)
    codes: set[str] = {"backend-away", "backend-broken", "backend-slow"}
    if is_closed(rows):
        return [REASONS["closed"]]
    if configuration.caps:
        codes.add("over-capacity")
    for row in in_force(rows):
        codes.update(BY_KIND[row.policy.kind])
    if not is_open(rows):
        codes |= {"no-credential", "not-subscribed", "subscription-paused", "application-paused"}
        offered = [plan for product in configuration.products_with(api.name) for plan in product.plans]
        plans = plans or offered
        call = operation.call if operation is not None else ""
        if any(one.limits_for(api.name, call) for one in plans):
            codes |= {"over-plan", "not-metered"}
        if any(one.quota is not None for one in plans):
            codes |= {"over-quota", "not-metered"}
    backend = configuration.backend(version.backend)
    if backend is not None and backend.sign_in_secret:
        codes.add("secret-missing")
    return sorted((REASONS[code] for code in codes), key=lambda reason: (reason.status, reason.code))
