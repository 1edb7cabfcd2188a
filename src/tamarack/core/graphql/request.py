"""Requests as GraphQL over HTTP has them: a document with its variables in a JSON body, or in the query of a GET."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any, NamedTuple, Protocol
from urllib.parse import parse_qsl

from tamarack.core.graphql.document import DocumentProblem
from tamarack.core.http.fields import Header
from tamarack.core.http.query import name_of
from tamarack.core.shaping.json_bodies import load

LARGEST = 1_000_000
"""Bytes of a request."""
MOST_BATCHED = 50
MOST_VALUES = 10_000
"""Of the variables of a request."""
JSON = b"application/json"
RESPONSE = b"application/graphql-response+json"
_NAMES = ("query", "operationName", "variables", "extensions", "documentId")
_SENT = _NAMES[:4]


class Known(Protocol):
    """Documents by their ids."""

    def find(self, id: str) -> str | None:
        """The document of an id; None where it is not known."""
        ...

    def register(self, id: str, document: str) -> bool:
        """Make a document known that came with its id; False where it is not its id, or that is not for callers."""
        ...


class RequestProblem(DocumentProblem):
    """What is no request at all, whatever its document: it is answered with a status of its own, to older clients too
    (GraphQL over HTTP, 6.4.1)."""


class GraphRequest(NamedTuple):
    """One document that is to be run."""

    query: str
    operation: str
    variables: Mapping[str, Any]
    told: dict[str, Any]
    """All of the request, with the document in place of its id."""
    by_id: bool = False
    """Whether it named its document by the id."""


def of_body(body: bytes, known: Known) -> tuple[list[GraphRequest], bool]:
    """The requests of a body, and whether they came as a batch. Raises `DocumentProblem`."""
    try:
        told = load(body)
    except ValueError:
        raise RequestProblem("the body is not JSON; it is an object with the document as its query") from None
    if isinstance(told, list):
        if not 1 <= len(told) <= MOST_BATCHED:
            raise RequestProblem(f"a batch holds 1 to {MOST_BATCHED} requests; this one has {len(told)}")
        return [_request(one, known) for one in told], True
    return [_request(told, known)], False


def asks_by_query(query: bytes) -> bool:
    """Whether an address says what is to be run: some services go by it before the body."""
    return any(name_of(part).decode("latin-1") in _NAMES for part in query.split(b"&"))


def of_query(query: bytes, known: Known) -> GraphRequest:
    """The request of a GET's query. Raises `DocumentProblem`."""
    try:
        pairs = parse_qsl(query.decode("ascii"), keep_blank_values=True, strict_parsing=bool(query), max_num_fields=50)
    except (ValueError, UnicodeDecodeError):
        raise RequestProblem("the query string cannot be read") from None
    found: dict[str, Any] = {}
    for name, value in pairs:
        if name in _NAMES:
            if name in found:
                raise RequestProblem(f"`{name}` is given more than once")
            found[name] = value
    for name in ("variables", "extensions"):
        if name in found:
            try:
                found[name] = load(found[name].encode())
            except ValueError:
                raise RequestProblem(f"`{name}` is not JSON") from None
    return _request(found, known)


def check_values(value: Any) -> None:
    """Refuse variables that hold more values than is held against their types. Raises `RequestProblem`."""
    left, waiting = MOST_VALUES, [value]
    while waiting:
        one = waiting.pop()
        inside = one.values() if isinstance(one, dict) else one if isinstance(one, list) else ()
        left -= len(inside)
        if left < 0:
            words = f"the variables hold more than {MOST_VALUES:,} values; send fewer at once"
            raise RequestProblem(words, "over-graphql-limit")
        waiting.extend(inside)


def _request(told: Any, known: Known) -> GraphRequest:
    if not isinstance(told, dict):
        raise RequestProblem("a request is an object with the document as its query")
    id = told.get("documentId")
    if id is not None:
        told = _with_document(told, id, known)
    query, operation, variables = told.get("query"), told.get("operationName"), told.get("variables")
    if not isinstance(query, str) or not query.strip():
        raise RequestProblem("the request has no document: `query` is a text that is not empty")
    if operation is not None and not isinstance(operation, str):
        raise RequestProblem("`operationName` is a text, or is left out")
    if variables is not None and not isinstance(variables, dict):
        raise RequestProblem("`variables` is an object, or is left out")
    if variables:
        check_values(variables)
    extensions = told.get("extensions")
    if extensions is not None and not isinstance(extensions, dict):
        raise RequestProblem("`extensions` is an object, or is left out")
    sent = {name: told[name] for name in _SENT if name in told}  # what is not known here could mean anything there
    return GraphRequest(query, operation or "", variables or {}, sent, id is not None)


def _with_document(told: dict[str, Any], id: Any, known: Known) -> dict[str, Any]:
    """A request with its document in place of the id (GraphQL over HTTP, persisted documents)."""
    if not isinstance(id, str):
        raise RequestProblem("`documentId` is a text, or is left out")
    query = told.get("query")
    if query is not None:
        if not isinstance(query, str) or not known.register(id, query):
            raise RequestProblem(
                "a request has a `query` or a `documentId`, not both, unless callers may register documents, the id is"
                " the document's digest, and it has up to 20,000 characters"
            )
        return {name: value for name, value in told.items() if name != "documentId"}
    document = known.find(id)
    if document is None:
        raise DocumentProblem(f"no document is known by the id {id[:80]!r}", "unknown-document")
    return {"query": document, **{name: value for name, value in told.items() if name not in ("documentId", "query")}}


def media_for(headers: Iterable[Header]) -> bytes:
    """The media type of an answer to a call with these fields."""
    accept = next((value for name, value in headers if name == b"accept"), b"")
    return RESPONSE if wants_response_media(accept) else JSON


def wants_response_media(accept: bytes) -> bool:
    """Whether a caller takes the media type of GraphQL responses before plain JSON (GraphQL over HTTP, 6.1)."""
    best: dict[bytes, float] = {}
    for part in accept.lower().split(b","):
        media, *parameters = (one.strip() for one in part.split(b";"))
        weight = next((one[2:] for one in parameters if one.startswith(b"q=")), b"1")
        try:
            best[media] = float(weight[:6])
        except ValueError:
            best[media] = 0.0
    response = best.get(RESPONSE, 0.0)
    return response > 0 and response >= max(best.get(JSON, 0.0), best.get(b"*/*", 0.0), best.get(b"application/*", 0.0))
