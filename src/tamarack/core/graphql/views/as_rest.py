"""On a call's way: a REST call asked as the document that its operation is a view of, and its answer given as REST."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any
from urllib.parse import parse_qs

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.errors import CoreError
from tamarack.core.graphql.calls.asked import GraphAsked, Run
from tamarack.core.graphql.calls.documents import Documents
from tamarack.core.graphql.calls.whole_answers import LARGEST, NEGOTIATED, OF_THE_BYTES, WITHOUT_BODY
from tamarack.core.graphql.document import DocumentProblem
from tamarack.core.graphql.request import JSON, RESPONSE, GraphRequest, check_values
from tamarack.core.graphql.views.rest_view import ParameterProblem, RestView
from tamarack.core.http.heads import Answered
from tamarack.core.shaping.json_bodies import dump, is_json, load
from tamarack.core.text import one_line
from tamarack.core.values.call_values import path_values

MOST_PARAMETERS = 200
ERRORS = b"tamarack-graph-errors"
"""How many places of an answer the graph could not fill in."""
_LONGEST_MESSAGE = 300
_ITS_OWN = NEGOTIATED | {b"accept", b"content-type"}
_REPLACED = OF_THE_BYTES | {b"content-type"}
_NO_JSON = Refusal(REASONS["bad-parameter"], status=415, detail="The body has the media type application/json.")
_TOO_LARGE = Refusal(REASONS["too-large"])


def _wrong(words: str, note: str = "") -> Refusal:
    told = f"{words[:1].upper()}{words[1:].rstrip('.')}."
    return Refusal(REASONS["bad-parameter"], (), "", note or words[:200], told)


def asked_by(view: RestView, documents: Documents) -> Callable[[Call], Refusal | None]:
    """The step that reads a REST call as its document with variables."""
    operation, graph = view.document.operations[0], documents.graph
    assert graph is not None

    def step(call: Call) -> Refusal | None:
        try:
            variables = view.variables(path_values(call), _query(call.query), _body(call, view))
            typed = operation.coerced(graph, variables)
        except (ParameterProblem, DocumentProblem) as problem:
            return _wrong(str(problem), problem.note)
        except _Refused as refused:
            return refused.refusal
        told = {"query": view.text, "variables": variables}
        request = GraphRequest(view.text, "", variables, told)
        call.graph = asked = GraphAsked([Run(operation, typed, request)], False, None, documents)
        asked.is_view = True
        return None

    return step


class _Refused(CoreError):
    def __init__(self, refusal: Refusal) -> None:
        self.refusal = refusal


def _query(query: bytes) -> dict[str, list[str]]:
    if not query:
        return {}
    try:
        return parse_qs(query.decode("ascii"), keep_blank_values=True, max_num_fields=MOST_PARAMETERS, errors="strict")
    except (ValueError, UnicodeDecodeError):
        raise _Refused(_wrong("the query string cannot be read, or has too many parameters")) from None


def _body(call: Call, view: RestView) -> Mapping[str, Any]:
    if not view.has_body or (call.body is None and not call.length) or call.body == b"":
        return {}
    if not is_json(call.media):
        raise _Refused(_NO_JSON)
    if call.body is None:
        raise _Refused(_TOO_LARGE)
    try:
        told = load(call.body)
    except ValueError:
        raise _Refused(_wrong("the body is not JSON")) from None
    if not isinstance(told, dict):
        raise _Refused(_wrong("the body is an object with the parameters as its members"))
    check_values(told)
    return told


def sent_as_document(call: Call) -> Refusal | None:
    """Send the document to the graph's own address, in place of the REST call."""
    asked: GraphAsked | None = call.graph
    if asked is None or not asked.sent:
        return None
    call.asks_method, call.asks_path, call.query = "POST", b"", b""
    call.body = dump(asked.sent[0].told)
    kept = [field for field in call.headers if field[0] not in _ITS_OWN]
    call.headers = [*kept, (b"content-type", JSON), (b"accept", RESPONSE + b", " + JSON + b";q=0.9")]
    return None


def given_by(view: RestView) -> Callable[[Call, Answered], Refusal | None]:
    """What gives the graph's answer as the view says."""

    def give(call: Call, answer: Answered) -> Refusal | None:
        if answer.status in WITHOUT_BODY:
            return None
        told = _told(answer)
        if isinstance(told, str):
            if answer.status >= 400 or not call.answered:
                return None  # not the graph's, but of what stands before it, or of a policy that answers
            return Refusal(REASONS["answer-unreadable"], note=f"the answer's body: {told}")
        data, errors = told.get("data"), _errors(told.get("errors"))
        value = data.get(view.key) if view.key and isinstance(data, dict) else data
        if value is None:
            return _nothing(errors)
        answer.status, answer.body = 200, dump(value)
        answer.headers = [field for field in answer.headers if field[0] not in _REPLACED]
        answer.headers.append((b"content-type", JSON))
        if errors:
            answer.headers.append((ERRORS, b"%d" % len(errors)))
            call.note = call.note or f"the graph: {_message(errors)}"
        return None

    return give


def _told(answer: Answered) -> dict[str, Any] | str:
    """An answer of a graph; or why it is none, in words."""
    fields = dict(answer.headers)
    if answer.body is None:
        return f"it has more than {LARGEST:,} bytes"
    if b"content-encoding" in fields:
        return "it is compressed"
    try:
        told = load(answer.body) if is_json(fields.get(b"content-type", JSON)) else None
    except ValueError:
        told = None
    if not isinstance(told, dict) or not ("data" in told or "errors" in told):
        return "it is no answer of a graph"
    return told


def _errors(told: Any) -> list[Any]:
    """The errors of an answer; whatever else stands in their place is one."""
    if isinstance(told, list):
        return told
    return [told] if told else []


def _nothing(errors: list[Any]) -> Refusal:
    """Why there is no value."""
    if not errors:
        return Refusal(REASONS["nothing-found"])
    message = _message(errors)
    extensions = errors[0].get("extensions") if isinstance(errors[0], dict) else None
    if isinstance(extensions, dict) and extensions.get("reason") == "closed-field":
        return Refusal(REASONS["closed-field"], note=message, detail=message)
    return Refusal(REASONS["graph-failed"], note=message, detail=f"The graph said: {message}")


def _message(errors: list[Any]) -> str:
    """The first of some errors, in one line; and how many more there are."""
    first = errors[0]
    words = str(first.get("message", "")) if isinstance(first, dict) else str(first)
    more = f" (and {len(errors) - 1} more)" if len(errors) > 1 else ""
    return one_line(words)[:_LONGEST_MESSAGE] + more
