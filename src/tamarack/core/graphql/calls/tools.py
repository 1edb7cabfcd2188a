"""What an operation of a GraphQL API works with: its schema, documents that were read, and answers of the schema."""

from __future__ import annotations

from collections.abc import Callable

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Reply
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.graphql.calls.asked import GraphAsked
from tamarack.core.graphql.calls.documents import Documents
from tamarack.core.graphql.calls.opened import LONGEST_INTROSPECTION, Introspections
from tamarack.core.graphql.request import media_for
from tamarack.core.graphql.schema import graph_of

_TOO_LONG = Refusal(
    REASONS["over-graphql-limit"],
    detail=f"A document that asks for the schema has at most {LONGEST_INTROSPECTION:,} characters; send a shorter one.",
)


class GraphTools:
    """For one schema; an empty one is not known. Raises `schema.SchemaProblem`."""

    __slots__ = ("documents", "introspections")

    def __init__(self, schema: str) -> None:
        graph = graph_of(schema) if schema else None
        self.documents = Documents(graph)
        self.introspections = Introspections(graph) if graph is not None else None


def tells_schema(introspections: Introspections) -> Callable[[Call], Reply | Refusal | None]:
    """Answers those who ask for the schema with the part that is open to them."""

    def answer(call: Call) -> Reply | Refusal | None:
        asked: GraphAsked | None = call.graph
        if asked is None or not asked.runs[0].operation.introspects:
            return None
        run = asked.runs[0]
        if len(run.request.query) > LONGEST_INTROSPECTION:
            return _TOO_LONG
        body = introspections.answer(run, asked.closed)
        media = media_for(call.headers)
        return Reply(200, b"content-type: %b\r\n" % media, b"[%b]" % body if asked.batch else body)

    return answer
