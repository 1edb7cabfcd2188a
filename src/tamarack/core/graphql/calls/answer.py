"""What callers of a GraphQL API are told when a call is not carried: errors in the form that their clients read."""

from __future__ import annotations

import json
from typing import Any

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Reply
from tamarack.core.carrying.refusals import Refusal
from tamarack.core.graphql.request import JSON, media_for

_WELL_FORMED = frozenset(("bad-graphql", "unknown-graphql-field", "over-graphql-limit", "closed-field",
                          "introspection-closed", "unknown-document"))  # fmt: skip
"""Reasons that speak of a document: with plain JSON they come with status 200, for older clients read no other
(GraphQL over HTTP, 6.4.1)."""
_TOLD = frozenset(("type", "status", "detail", "instance", "reason", "title", "call_id"))
_PROBLEM = b"content-type: application/problem+json\r\n"


def as_errors(call: Call, refusal: Refusal, told: Reply) -> Reply:
    """A refusal's problem as an error of GraphQL."""
    reason = refusal.reason
    media = media_for(call.headers)
    status = told.status
    if media is JSON and not refusal.status and reason.code in _WELL_FORMED:
        status = 200
    problem: dict[str, Any] = json.loads(told.body)
    error: dict[str, Any] = {"message": problem["detail"]}
    places = [{"line": line, "column": column} for line, column in refusal.places if line]
    if places:
        error["locations"] = places
    more = {name: value for name, value in problem.items() if name not in _TOLD}
    error["extensions"] = {
        "reason": reason.code, "title": reason.title, "call_id": problem["call_id"], "help": problem["type"], **more
    }  # fmt: skip
    fields = told.fields.replace(_PROBLEM, b"content-type: %b\r\n" % media, 1)
    return Reply(status, fields, json.dumps({"errors": [error]}).encode())
