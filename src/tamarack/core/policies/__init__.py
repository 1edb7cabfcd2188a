"""The policy kinds. `KINDS` is the one table of them: a new kind is a new file and a new row."""

from typing import Annotated, Any

from pydantic import Discriminator, Tag

from tamarack.core.policies import api_key, body_size, open_access, rate_limit
from tamarack.core.policies.kind import Policy, PolicyKind

KINDS: dict[str, PolicyKind] = {
    kind.kind: kind for kind in (body_size.KIND, open_access.KIND, api_key.KIND, rate_limit.KIND)
}


def _kind_of(value: Any) -> str | None:
    return value.get("kind") if isinstance(value, dict) else getattr(value, "kind", None)


AnyPolicy = Annotated[
    Annotated[body_size.BodySize, Tag("body-size")]
    | Annotated[open_access.OpenAccess, Tag("open")]
    | Annotated[api_key.ApiKey, Tag("api-key")]
    | Annotated[rate_limit.RateLimit, Tag("rate-limit")],
    Discriminator(_kind_of),
]
"""Any policy, told apart by its `kind`."""


def kind_of(policy: Policy) -> PolicyKind:
    """The row of the table that a policy belongs to."""
    return KINDS[policy.kind]


__all__ = ["KINDS", "AnyPolicy", "Policy", "PolicyKind", "kind_of"]
