"""A schema of the fleet, and calls to an API that publishes it, run through its programs."""

from collections.abc import Mapping, Sequence
from typing import Any

import orjson

from core.carried import NOW, Bed
from core.protected import API_KEY, directory, material
from helpers import configuration
from tamarack.core.balancing.route import Route
from tamarack.core.caching.memory import MemoryCache
from tamarack.core.carrying.call import Call
from tamarack.core.carrying.needs import Ask
from tamarack.core.carrying.parts import Reply
from tamarack.core.carrying.refusals import Refusal
from tamarack.core.graphql.described import SCHEMA
from tamarack.core.graphql.views.rest_view import VIEW
from tamarack.core.http.heads import Answered
from tamarack.core.http.target import target_at
from tamarack.core.told.problems import Problems
from tamarack.core.told.scripted import OnlyMemory, ScriptedDriver

SDL = '''
"""What sails, where and when"""
type Query {
  vessels(first: Int): [Vessel!]!
  vessel(name: ID!): Vessel
  port(code: ID!): Port
  place(id: ID!): Place
  search(text: String!): [Found!]!
}
type Mutation { hold(berth: ID!): Berth }
interface Place { code: ID! title: String }
type Vessel { name: ID! oldName: String @deprecated crossings(last: Int, from: ID): [Crossing!]! @listSize(assumedSize: 20) }
type Crossing { id: ID! ports: [Port!]! vessel: Vessel }
type Port implements Place { code: ID! title: String berths: [Berth!]! near(limit: Int = 3): [Port!]! @cost(weight: "4") }
type Berth implements Place { code: ID! title: String length: Float vessel: Vessel }
union Found = Vessel | Port
'''
JSON = (b"content-type", b"application/json")
KEY = (b"x-skerry-key", b"tmk_good")
NEWER = (b"accept", b"application/graphql-response+json")
TARGET = target_at("http://127.0.0.1:9/graph", 1000, 1000)


class Fleet:
    """An API of the fleet's schema, with policies; its backend answers with data that says nothing."""

    def __init__(
        self,
        *policies: dict[str, Any],
        schema: str = SDL,
        groups: Sequence[str] = (),
        views: Mapping[str, tuple[str, str]] = {},
        fields: Sequence[Mapping[str, Any]] = (),
    ) -> None:
        operations = [{"call": "post /"}, {"call": "get /"}, *({"call": call} for call in views)]
        described: dict[str, Any] = {SCHEMA: schema, "paths": {}}
        for call, (text, gives) in views.items():
            shown, _, path = call.partition(" ")
            described["paths"].setdefault(path, {})[shown] = {VIEW: {"document": text, "gives": gives}}
        own = {"policies": [API_KEY, *policies], "operations": operations, "document": "0" * 64,
               "fields": list(fields)}  # fmt: skip
        made = configuration(version=own)
        graph = made.apis[0].model_copy(update={"style": "graphql"})
        made = made.model_copy(update={"apis": (graph,)})
        route = {"timetable": Route([TARGET])}
        ticks = iter(range(10**12)).__next__
        self.memory = MemoryCache(1_000_000)
        self.known = directory(tuple(groups))
        self.bed = Bed(made, self.known, material(), cache=OnlyMemory(self.memory), documents=lambda sha256: described,
                       routes=route, clock=ticks)  # fmt: skip
        self.sent: list[tuple[bytes, bytes]] = []
        self.head = b""
        self.later = 0.0
        """Seconds that have passed."""
        self.call: Call
        self.reply = Answered(200, [JSON], b'{"data":{}}')
        """What the backend answers."""

    def send(
        self, method: str, body: bytes = b"", query: bytes = b"", *headers: tuple[bytes, bytes], path: bytes = b""
    ) -> Any:
        """Carry a call; returns how it ended."""

        def backend(ask: Ask, sent: bytes) -> tuple[Answered, tuple[bytes, ...]]:
            self.sent.append((ask.head.split(b" ")[1], sent))
            self.head = ask.head
            return Answered(self.reply.status, list(self.reply.headers), self.reply.body), ()

        media = [] if method == "GET" else [JSON]
        self.call = self.bed.call(method, b"/sailings/v2" + path, query, [KEY, *media, *headers], now=NOW + self.later)
        self.call.length = len(body)
        operation = self.call.operation
        assert operation is not None
        return ScriptedDriver(self.bed.counters, backend=backend, cache=self.memory).carry(self.call, operation, body)  # type: ignore[arg-type]

    def ask(self, document: str, *headers: tuple[bytes, bytes], operation: str | None = None, **variables: Any) -> Any:
        """Run a document by POST."""
        body = {"query": document, "variables": variables} | ({"operationName": operation} if operation else {})
        return self.send("POST", orjson.dumps(body), b"", *headers)

    def answers(self, body: Any, *headers: tuple[bytes, bytes], status: int = 200) -> "Fleet":
        """Let the backend answer with something else."""
        self.reply = Answered(
            status,
            list({JSON[0]: JSON[1], **dict(headers)}.items()),
            body if isinstance(body, bytes) else orjson.dumps(body),
        )
        return self

    def why(self, document: str, **more: Any) -> tuple[str, str]:
        """Reason and words of a refusal; both empty where the call passes."""
        outcome = self.ask(document, **more)
        return (outcome.reason.code, outcome.detail) if isinstance(outcome, Refusal) else ("", "")

    def leave_groups(self) -> None:
        """Take the caller's application out of every group."""
        body = {"name": "berth-board", "organization": "harbour-control", "paused": False, "groups": []}
        self.known.apply("application", "a", body)

    def told(self, outcome: Refusal) -> tuple[Reply, dict[str, Any]]:
        """A refusal as its caller gets it."""
        reply = Problems("http://portal.example").reply(outcome, self.call)
        told: dict[str, Any] = orjson.loads(reply.body)
        return reply, told
