"""The policy kinds. `KINDS` is the one table of them: a new kind is a new file and a new row."""

from functools import reduce
from operator import or_
from typing import TYPE_CHECKING, Annotated, Any

from pydantic import Discriminator, Tag

from tamarack.core.policies.answer import fixed_answer, mock, near_equal_prompts, response_cache
from tamarack.core.policies.forward import retries, time_limits
from tamarack.core.policies.guard import body_size, browser_access
from tamarack.core.policies.identify import (
    access_token,
    api_key,
    client_certificate,
    client_secret,
    open_access,
    signed_key,
    token,
)
from tamarack.core.policies.kind import Policy, PolicyKind
from tamarack.core.policies.meter import call_cost, call_quota, limit_fields, rate_limit, token_count, token_limit
from tamarack.core.policies.on_error import error_answer
from tamarack.core.policies.permit import (
    address_ranges,
    dimensions,
    graphql_documents,
    graphql_fields,
    graphql_limits,
    groups,
    models,
    prompt_guard,
    referring_site,
    required_claims,
    scopes,
)
from tamarack.core.policies.returns import answer_body, answer_check, answer_fields, prompt_log
from tamarack.core.policies.shape import request_body, request_check, request_fields, rewrite
from tamarack.core.policies.written import WrittenPolicy
from tamarack.core.written.kind import PREFIX

_WRITTEN = "written"
"""The tag of all policies of written kinds."""

KINDS: dict[str, PolicyKind] = {
    kind.kind: kind
    for kind in (
        browser_access.KIND,
        body_size.KIND,
        open_access.KIND,
        api_key.KIND,
        client_secret.KIND,
        client_certificate.KIND,
        token.KIND,
        signed_key.KIND,
        access_token.KIND,
        groups.KIND,
        scopes.KIND,
        required_claims.KIND,
        address_ranges.KIND,
        referring_site.KIND,
        models.KIND,
        prompt_guard.KIND,
        dimensions.KIND,
        graphql_documents.KIND,
        graphql_limits.KIND,
        graphql_fields.KIND,
        rate_limit.KIND,
        call_quota.KIND,
        call_cost.KIND,
        limit_fields.KIND,
        token_count.KIND,
        token_limit.KIND,
        request_check.KIND,
        request_fields.KIND,
        rewrite.KIND,
        request_body.KIND,
        fixed_answer.KIND,
        mock.KIND,
        response_cache.KIND,
        near_equal_prompts.KIND,
        retries.KIND,
        time_limits.KIND,
        answer_check.KIND,
        answer_fields.KIND,
        answer_body.KIND,
        prompt_log.KIND,
        error_answer.KIND,
    )
}


def _kind_of(value: Any) -> str | None:
    kind = value.get("kind") if isinstance(value, dict) else getattr(value, "kind", None)
    return _WRITTEN if isinstance(kind, str) and kind.startswith(PREFIX) else kind


if TYPE_CHECKING:
    AnyPolicy = Policy
else:
    AnyPolicy = Annotated[
        reduce(
            or_,
            (Annotated[kind.model, Tag(kind.kind)] for kind in KINDS.values()),
            Annotated[WrittenPolicy, Tag(_WRITTEN)],
        ),
        Discriminator(_kind_of),
    ]
    """Any policy, told apart by its `kind`."""


def kind_of(policy: Policy) -> PolicyKind:
    """The row of the table that a policy belongs to; of a written kind, what stands for it."""
    return policy.row if isinstance(policy, WrittenPolicy) else KINDS[policy.kind]


__all__ = ["KINDS", "AnyPolicy", "Policy", "PolicyKind", "kind_of"]
