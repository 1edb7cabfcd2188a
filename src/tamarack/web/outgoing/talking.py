"""Sending a call to a node and telling of its answer as it comes: what a language model says, piece by piece."""

from __future__ import annotations

import http.client
import json
import secrets
import time
from collections.abc import Iterator
from typing import Any
from urllib.parse import urlsplit

from tamarack.core.http.answer_values import documents_of
from tamarack.core.json_pointer import at_pointer
from tamarack.core.language_models.shape import CHAT
from tamarack.core.nodes.keys import asking_key
from tamarack.core.trying.bench import BenchCall
from tamarack.core.trying.ticket import LIVES_S, Ticket, write_ticket
from tamarack.store.nodes.tables import Node

BETWEEN_S = 20.0
WHOLE_S = 90.0
MOST_BYTES = 1_000_000
_PIECE = 4_096

Told = dict[str, Any]


def talk(call: BenchCall, node: Node, key: bytes, by: str) -> Iterator[Told]:
    """Send a call as its application, and tell of the answer: `text` for each piece; at the end what it took, how long
    the first piece took, and the call's id; or `problem`, where it was refused or came to nothing. Never raises."""
    ticket = Ticket(
        environment=node.environment,
        node=node.name,
        nonce=secrets.token_hex(8),
        by=by,
        expires_at=time.time() + LIVES_S,
        application=call.application,
        claims=None,
    )
    parts = urlsplit(node.address)
    connection = http.client.HTTPConnection(parts.hostname or "", parts.port, timeout=BETWEEN_S)
    begun = time.perf_counter()
    try:
        fields = dict(line.split(": ", 1) for line in call.headers)
        fields["Tamarack-Bench"] = write_ticket(ticket, asking_key(key, node.name))
        connection.request(call.method, call.path, call.body.encode(), fields)
        answer = connection.getresponse()
        call_id = answer.getheader("tamarack-call-id", "")
        if answer.status != 200:
            yield {"problem": _problem(answer), "status": answer.status, "call": call_id}
            return
        yield from _pieces(answer, begun, call_id)
    except (OSError, http.client.HTTPException, ValueError) as error:
        words = "no answer in time" if isinstance(error, TimeoutError) else str(error) or type(error).__name__
        yield {"problem": f"{node.name} gave no answer: {words}", "status": 0, "call": ""}
    finally:
        connection.close()


def _pieces(answer: http.client.HTTPResponse, begun: float, call_id: str) -> Iterator[Told]:
    """What an answer says, whole or streamed, bounded in bytes and time."""
    said: list[Told] = []
    usage: Told = {}

    def found(document: Any) -> None:
        told = next((text for place in CHAT.said if isinstance(text := at_pointer(document, place), str)), "")
        if told:
            said.append({"text": told})
        if isinstance(at_pointer(document, "/usage"), dict):
            usage.update(document["usage"])

    documents = documents_of([(b"content-type", answer.getheader("content-type", "").encode("latin-1"))], found)
    size, first_ms = 0, 0.0
    while size < MOST_BYTES and time.perf_counter() - begun < WHOLE_S and (data := answer.read1(_PIECE)):
        size += len(data)
        documents.piece(data)
        if said and not first_ms:
            first_ms = (time.perf_counter() - begun) * 1000
        yield from said
        said.clear()
    documents.end(True)
    first_ms = first_ms or (time.perf_counter() - begun) * 1000
    yield from said
    ended = {"first_ms": round(first_ms), "ms": round((time.perf_counter() - begun) * 1000), "call": call_id}
    numbers = {name: usage.get(name) for name in ("prompt_tokens", "completion_tokens")}
    yield ended | {name: value for name, value in numbers.items() if isinstance(value, int)}


def _problem(answer: http.client.HTTPResponse) -> str:
    """What a refusal says, in words."""
    content = answer.read(100_000)
    try:
        told = json.loads(content)
    except (ValueError, RecursionError):
        told = None
    detail = told.get("detail") or told.get("title") if isinstance(told, dict) else None
    return detail if isinstance(detail, str) else f"answered {answer.status} {answer.reason}"
