"""The policy kinds. `KINDS` is the one table of them: a new kind is a new file and a new row."""

from typing import Annotated, Any

from pydantic import Discriminator, Tag

from tamarack.core.policies import (
    address_ranges,
    api_key,
    body_size,
    browser_access,
    call_cost,
    call_quota,
    client_secret,
    groups,
    limit_fields,
    open_access,
    rate_limit,
    referring_site,
    required_claims,
    scopes,
    signed_key,
    token,
    token_count,
)
from tamarack.core.policies.kind import Policy, PolicyKind

KINDS: dict[str, PolicyKind] = {
    kind.kind: kind
    for kind in (
        browser_access.KIND,
        body_size.KIND,
        open_access.KIND,
        api_key.KIND,
        client_secret.KIND,
        token.KIND,
        signed_key.KIND,
        groups.KIND,
        scopes.KIND,
        required_claims.KIND,
        address_ranges.KIND,
        referring_site.KIND,
        rate_limit.KIND,
        call_quota.KIND,
        call_cost.KIND,
        limit_fields.KIND,
        token_count.KIND,
    )
}


def _kind_of(value: Any) -> str | None:
    return value.get("kind") if isinstance(value, dict) else getattr(value, "kind", None)


AnyPolicy = Annotated[
    Annotated[body_size.BodySize, Tag("body-size")]
    | Annotated[browser_access.BrowserAccess, Tag("browser-access")]
    | Annotated[open_access.OpenAccess, Tag("open")]
    | Annotated[api_key.ApiKey, Tag("api-key")]
    | Annotated[client_secret.ClientSecret, Tag("client-secret")]
    | Annotated[token.JwtPolicy, Tag("jwt")]
    | Annotated[signed_key.SignedKey, Tag("signed-key")]
    | Annotated[groups.Groups, Tag("groups")]
    | Annotated[scopes.Scopes, Tag("scopes")]
    | Annotated[required_claims.RequiredClaims, Tag("claims")]
    | Annotated[address_ranges.AddressRanges, Tag("addresses")]
    | Annotated[referring_site.ReferringSite, Tag("referring-site")]
    | Annotated[call_cost.CallCost, Tag("cost")]
    | Annotated[call_quota.CallQuota, Tag("quota")]
    | Annotated[limit_fields.LimitFields, Tag("limit-fields")]
    | Annotated[rate_limit.RateLimit, Tag("rate-limit")]
    | Annotated[token_count.TokenCount, Tag("token-count")],
    Discriminator(_kind_of),
]
"""Any policy, told apart by its `kind`."""


def kind_of(policy: Policy) -> PolicyKind:
    """The row of the table that a policy belongs to."""
    return KINDS[policy.kind]


__all__ = ["KINDS", "AnyPolicy", "Policy", "PolicyKind", "kind_of"]
