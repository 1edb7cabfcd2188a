"""What a call asks of a GraphQL API: its documents, read and held against the schema, and what is closed to it."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from hashlib import blake2b
from typing import Any, NamedTuple
from urllib.parse import urlencode

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Knowing
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.graphql.calls.documents import Documents
from tamarack.core.graphql.calls.known import NONE, KnownDocuments
from tamarack.core.graphql.closed.withheld import Withholding
from tamarack.core.graphql.document import LONGEST_NAME, DocumentProblem, Operation
from tamarack.core.graphql.request import JSON, GraphRequest, RequestProblem, asks_by_query, of_body, of_query
from tamarack.core.shaping.json_bodies import dump

Closed = Callable[[str], bool]
"""Whether a field, as `Type.field`, is closed."""

_NO_JSON = Refusal(REASONS["bad-graphql"], status=415, detail="A request has the media type application/json.")
_TOO_LARGE = Refusal(REASONS["too-large"])
_NO_DOCUMENT = Refusal(REASONS["bad-graphql"], status=400, detail="The request has no document: it is empty.")
_NO_BODY = Refusal(
    REASONS["bad-graphql"], status=400, detail="A GET has its document in the address, and no body; leave that out."
)
_TWICE = Refusal(
    REASONS["bad-graphql"],
    status=400,
    detail="A POST has its document in the body; leave `query`, `variables`, `operationName`, `extensions` and"
    " `documentId` out of the address.",
)
_BY_ITSELF = Refusal(
    REASONS["bad-graphql"], detail="The schema is told here, not by the backend: ask for it in a document by itself."
)
_READS_ONLY = Refusal(
    REASONS["bad-graphql"], ((b"allow", b"POST"),), status=405, detail="A GET runs queries alone; send others by POST."
)

_LATER = Refusal(
    REASONS["over-rate"],
    ((b"retry-after", b"1"),),
    note="nothing new is read after several refusals",
    detail="Limits refused several calls of this caller within a second; what was not asked before is read in another.",
)
_NO_WEB_SOCKET = Refusal(REASONS["no-web-socket"])


class Run(NamedTuple):
    """One operation that is to be run."""

    operation: Operation
    variables: Mapping[str, Any]
    """By their types, with defaults, where there is a schema; else as they came."""
    request: GraphRequest


class GraphAsked:
    """What one call asks."""

    __slots__ = ("batch", "body", "by_id", "closed", "cost", "documents", "is_view", "runs", "sent", "withheld")

    def __init__(self, runs: Sequence[Run], batch: bool, body: bytes | None, documents: Documents) -> None:
        self.runs = runs
        self.documents = documents
        self.batch = batch
        self.body = body
        """The body that it was read from."""
        self.closed: Closed | None = None
        """What is closed to its caller, where a policy says that anything is."""
        self.sent: Sequence[GraphRequest] = [run.request for run in runs]
        """What of it goes to the backend."""
        self.withheld: Withholding | None = None
        """What of it comes back null, where anything does."""
        self.by_id = False
        """Whether a document was asked for by its id, which is sent on as its text."""
        self.is_view = False
        """Whether it was asked for by REST, so that it is written as a document only when it is sent."""
        self.cost = 0
        """What all of it costs, where that was counted."""

    @property
    def depth(self) -> int:
        """The depth of the deepest."""
        return max(run.operation.depth for run in self.runs)

    @property
    def named(self) -> str:
        """What it is called in records: kind and name of the first, or its root fields; and how many there are more."""
        first = self.runs[0].operation
        name = first.name or ", ".join(first.top[:4])
        more = f" and {len(self.runs) - 1} more" if len(self.runs) > 1 else ""
        return f"{first.kind} {name}"[:LONGEST_NAME] + more

    @property
    def typed(self) -> bool:
        """Whether it was held against a schema, so that what it asks for is known by type and field."""
        return self.documents.graph is not None

    @property
    def reads_only(self) -> bool:
        """Whether it changes nothing, and is answered at once: all of it are queries."""
        return all(run.operation.kind == "query" for run in self.runs)

    @property
    def digest(self) -> bytes:
        """A digest of documents, operations and variables: calls of the same digest ask the same."""
        asked = [[one.query, one.operation, one.variables] for one in self.sent]
        return blake2b(dump([self.batch, asked]), digest_size=16).hexdigest().encode()

    def used(self) -> dict[str, None]:
        """Every field that it asks for."""
        return {name: None for run in self.runs for name in run.operation.used}


Screen = Callable[[Sequence[str]], Refusal | None]
"""What looks at the texts of documents before they are read."""


def as_asked(
    documents: Documents, knowing: Knowing | None = None, screens: Sequence[Screen] = ()
) -> Callable[[Call], Refusal | None]:
    """The step that reads what a call asks. `knowing` are documents that are known by an id."""
    graph = documents.graph
    known = graph is not None
    by_id = KnownDocuments(knowing.by_id, knowing.registers) if knowing is not None else NONE
    only = knowing.policy if knowing is not None and knowing.only else ""

    def step(call: Call) -> Refusal | None:
        try:
            if call.method == "GET" or call.method == "HEAD":
                if call.length:
                    return _NO_BODY
                requests, batch = [of_query(call.query, by_id)], False
            else:
                if not call.length:
                    return _NO_DOCUMENT
                if not call.media.lower().startswith(JSON):
                    return _NO_JSON
                if call.body is None:
                    return _TOO_LARGE
                if call.query and asks_by_query(call.query):
                    return _TWICE
                requests, batch = of_body(call.body, by_id)
            if only and not all(by_id.holds(one.query) for one in requests):
                return Refusal(REASONS["unknown-document"], policy=only)
            texts = [one.query for one in requests]
            for screen in screens:
                if (refusal := screen(texts)) is not None:
                    return refusal
            if documents.spares(call, texts):
                return _LATER
            read_ones = documents.each(texts)
            runs = []
            for document, one in zip(read_ones, requests, strict=True):
                operation = document.chosen(one.operation)
                typed = operation.coerced(graph, one.variables) if graph is not None else one.variables
                runs.append(Run(operation, typed, one))
        except DocumentProblem as problem:
            return refused(problem)
        asks_schema = known and any(run.operation.introspects for run in runs)
        if asks_schema and (len(runs) > 1 or not runs[0].operation.only_introspects):
            return _BY_ITSELF
        if call.method != "POST" and any(run.operation.kind != "query" for run in runs):
            return _READS_ONLY
        call.graph = asked = GraphAsked(runs, batch, call.body, documents)
        asked.by_id = any(one.by_id for one in requests)
        return None

    return step


def no_web_socket(call: Call) -> Refusal | None:
    """Refuse what would open a WebSocket (RFC 6455, 4.1), whoever asks: a browser could not even show a key there."""
    if call.method == "GET" and any(name == b"sec-websocket-key" for name, _ in call.headers):
        return _NO_WEB_SOCKET
    return None


def sent_as_asked(call: Call) -> Refusal | None:
    """Send on what was read: each member once, so that what was decided over is what the backend gets."""
    asked, body = call.graph, call.body
    if asked is None:
        return None
    if body is not None and body is asked.body:
        write_body(call, asked)
    elif body is None and asked.by_id and call.query:
        write_query(call, asked)
    return None


def write_body(call: Call, asked: GraphAsked) -> None:
    """Write the body anew, by what is to be sent."""
    told = [one.told for one in asked.sent]
    if told:  # of what is all withheld nothing is sent
        call.body = asked.body = dump(told if asked.batch else told[0])


def write_query(call: Call, asked: GraphAsked) -> None:
    """Write the address's query anew, by what is to be sent."""
    for one in asked.sent:
        told = one.told
        call.query = urlencode({name: value if isinstance(value, str) else dump(value).decode()
                                for name, value in told.items()}).encode()  # fmt: skip


def refused(problem: DocumentProblem, policy: str = "") -> Refusal:
    """The refusal of a document."""
    words = str(problem)
    told = f"{words[:1].upper()}{words[1:].rstrip('.')}."
    status = 400 if isinstance(problem, RequestProblem) else 0
    return Refusal(REASONS[problem.code], (), policy, problem.note or words[:200], told, status, places=problem.places)
