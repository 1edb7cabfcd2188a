"""On a call's way: what is closed is taken out of what is sent, and comes back null with an error of its own."""

from __future__ import annotations

from typing import Any

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Reply
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.graphql.calls.asked import Closed, GraphAsked, write_body, write_query
from tamarack.core.graphql.calls.whole_answers import LARGEST, NEGOTIATED, OF_THE_BYTES, WITHOUT_BODY
from tamarack.core.graphql.closed.filling import Filling, PathError, Unfit
from tamarack.core.graphql.closed.withheld import Withheld, Withholding
from tamarack.core.graphql.request import JSON, GraphRequest
from tamarack.core.http.heads import Answered
from tamarack.core.shaping.json_bodies import dump, is_json, load


def withhold(call: Call, asked: GraphAsked, closed: Closed, policy: str, whom: str) -> list[str]:
    """Take what is closed out of what is sent; returns what that is, as `Type.field`."""
    found = [name for name in asked.used() if closed(name)]
    if not found:
        return []
    withholding = asked.withheld = asked.withheld or Withholding(whom, policy)
    withholding.hidden |= frozenset(found)
    sent: list[GraphRequest] = []
    made: list[Withheld | None] = []
    for run in asked.runs:
        hidden = withholding.hidden.intersection(run.operation.used)
        if not hidden:
            made.append(None)
            sent.append(run.request)
            continue
        left = asked.documents.without(run.request.query, run.request.operation, hidden)
        made.append(left)
        if left.text:
            sent.append(_asking(run.request, left))
    asked.sent, withholding.made = sent, made
    call.headers = [field for field in call.headers if field[0] not in NEGOTIATED]
    if asked.body is not None:
        write_body(call, asked)
    elif not asked.is_view:
        write_query(call, asked)
    return found


def _asking(request: GraphRequest, left: Withheld) -> GraphRequest:
    """A request for what is left of a document. Its extensions may hold a digest of the whole, so they stay behind."""
    variables = {name: value for name, value in request.variables.items() if name in left.variables}
    told: dict[str, Any] = {"query": left.text}
    told |= {"operationName": request.operation} if request.operation else {}
    told |= {"variables": variables} if variables else {}
    return request._replace(query=left.text, variables=variables, told=told)


def withholds(call: Call) -> bool:
    """Whether anything of a call's answer is withheld."""
    asked: GraphAsked | None = call.graph
    return asked is not None and asked.withheld is not None


def nothing_left(call: Call) -> Reply | None:
    """The answer to a call of which nothing is left to ask a backend for."""
    asked: GraphAsked | None = call.graph
    if asked is None or asked.withheld is None or asked.sent:
        return None
    return Reply(200, b"content-type: application/json\r\n", b"[]" if asked.batch else b"{}")


def fill(call: Call, answer: Answered) -> Refusal | None:
    """Put null with an error where something is withheld."""
    asked: GraphAsked | None = call.graph
    if asked is None or asked.withheld is None or asked.withheld.filled:
        return None
    asked.withheld.filled = True
    answer.headers = [field for field in answer.headers if field[0] not in OF_THE_BYTES]
    fields = dict(answer.headers)
    media = fields.get(b"content-type", JSON)
    if call.method == "HEAD" or answer.status in WITHOUT_BODY or answer.body == b"":
        return None
    if not is_json(media) and answer.status >= 400:
        return None  # no answer of the graph, but of something before it
    try:
        answer.body = _filled(asked, asked.withheld, answer.body, fields, media, call.id.decode())
    except Unfit as problem:
        note = f"the answer's body: {problem}"
        return Refusal(REASONS["answer-unreadable"], policy=asked.withheld.policy, note=note)
    return None


def _filled(
    asked: GraphAsked,
    withheld: Withholding,
    body: bytes | None,
    fields: dict[bytes, bytes],
    media: bytes,
    call_id: str,
) -> bytes:
    if body is None:
        raise Unfit(f"it has more than {LARGEST:,} bytes")
    if b"content-encoding" in fields:
        raise Unfit("it is compressed")
    if not is_json(media):
        raise Unfit("it is no JSON")
    try:
        told = load(body)
    except ValueError:
        raise Unfit("it is no JSON") from None
    answers = told if asked.batch else [told]
    if not isinstance(answers, list) or (asked.sent and len(answers) != len(asked.sent)):
        if isinstance(told, dict) and told.get("data") is None:
            return body  # one refusal of the whole batch
        raise Unfit(f"it does not answer each of {len(asked.sent)} documents")
    given = iter(answers)
    made = []
    for run, left in zip(asked.runs, withheld.made, strict=True):
        one = next(given) if left is None or left.text else {"data": {}}
        made.append(_one(asked, left, one, run.variables, withheld.whom, call_id) if left is not None else one)
    return dump(made if asked.batch else made[0])


def _one(asked: GraphAsked, left: Withheld, told: Any, variables: Any, whom: str, call_id: str) -> dict[str, Any]:
    """The answer to one document, with what is withheld told in its errors."""
    if not isinstance(told, dict):
        raise Unfit("it is no object")
    if "data" not in told:
        return told
    assert asked.documents.graph is not None
    filling = Filling(asked.documents.graph, left, variables)
    data = filling.data(told["data"])
    errors = told.get("errors") or []
    if not isinstance(errors, list):
        raise Unfit("its errors are no list")
    found = [_error(one, whom, call_id) for one in filling.errors]
    if filling.more:
        found.append({"message": f"{filling.more:,} more places are not open to {whom}.",
                      "extensions": {"reason": "closed-field", "call_id": call_id}})  # fmt: skip
    others = {name: value for name, value in told.items() if name not in ("data", "errors")}
    told_errors = {"errors": [*errors, *found]} if errors or found else {}
    return {"data": data, **told_errors, **others}


def _error(one: PathError, whom: str, call_id: str) -> dict[str, Any]:
    kind, _, name = one.named.partition(".")
    line, column = one.place
    return {
        "message": f"`{name}` of `{kind}` is not open to {whom}.",
        "locations": [{"line": line, "column": column}],
        "path": one.path,
        "extensions": {"reason": "closed-field", "call_id": call_id},
    }
