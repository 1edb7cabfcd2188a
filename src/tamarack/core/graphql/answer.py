"""What callers of a GraphQL API are told when a call is not carried: errors in the form that their clients read."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING

from tamarack.core.carrying.refusals import Refusal
from tamarack.core.graphql.request import JSON, media_for

if TYPE_CHECKING:
    from tamarack.core.carrying.call import Call

_WELL_FORMED = frozenset(("bad-graphql", "unknown-graphql-field", "over-graphql-limit", "closed-field",
                          "introspection-closed", "unknown-document"))  # fmt: skip
"""Reasons that speak of a document: with plain JSON they come with status 200, for older clients read no other
(GraphQL over HTTP, 6.4.1)."""


def errors_of(refusal: Refusal, call: Call, detail: str, page: str) -> tuple[int, bytes, bytes]:
    """Status, media type and body of a refusal."""
    reason = refusal.reason
    media = media_for(call.headers)
    status = refusal.status or reason.status
    if media is JSON and reason.code in _WELL_FORMED:
        status = 200
    error: dict[str, object] = {"message": detail}
    places = [{"line": line, "column": column} for line, column in refusal.places if line]
    if places:
        error["locations"] = places
    error["extensions"] = {"reason": reason.code, "title": reason.title, "call_id": call.id.decode(), "help": page}
    return status, media, json.dumps({"errors": [error]}).encode()
