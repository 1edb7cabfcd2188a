"""Sending a call, from the bench or the portal, to a node, and reading its answer, both bounded."""

import http.client
import secrets
import time
from dataclasses import replace
from urllib.parse import urlsplit

from tamarack.core.nodes.keys import asking_key
from tamarack.core.trying.bench import BenchAnswer, BenchCall, failures
from tamarack.core.trying.ticket import LIVES_S, Ticket, write_ticket
from tamarack.store.nodes.tables import Node

TIMEOUT_S = 20.0
MOST_BYTES = 500_000
"""Bytes of an answer's body that are read."""


def send(call: BenchCall, node: Node, key: bytes, by: str, vouched: bool = True) -> BenchAnswer:
    """Send a call to a node. Never raises: what went wrong is said.

    With a ticket (`vouched`) the node traces it, and takes it to be made by the call's application.
    """
    ticket = Ticket(
        environment=node.environment,
        node=node.name,
        nonce=secrets.token_hex(8),
        by=by,
        expires_at=time.time() + LIVES_S,
        application=call.application,
        claims=call.claims_said if call.application else None,
    )
    parts = urlsplit(node.address)
    connection = http.client.HTTPConnection(parts.hostname or "", parts.port, timeout=TIMEOUT_S)
    begun = time.perf_counter()
    try:
        connection.putrequest(call.method, call.path, skip_accept_encoding=True)
        for name, value in call.fields:
            connection.putheader(name, value.encode("latin-1", "replace"))
        body = call.body.replace("\r\n", "\n").encode() if call.body else b""
        if body or call.method in ("POST", "PUT", "PATCH"):
            connection.putheader("Content-Length", str(len(body)))
        if vouched:
            connection.putheader("Tamarack-Bench", write_ticket(ticket, asking_key(key, node.name)))
        connection.endheaders(body or None)
        answer = connection.getresponse()
        content = answer.read(MOST_BYTES + 1)
        ms = (time.perf_counter() - begun) * 1000
        headers = tuple((name.lower(), value) for name, value in answer.getheaders())
        made = BenchAnswer(
            status=answer.status,
            reason=answer.reason,
            headers=headers,
            body=content[:MOST_BYTES].decode("utf-8", "replace"),
            ms=ms,
            call_id=next((value for name, value in headers if name == "tamarack-call-id"), ""),
            node=node.name,
            cut=len(content) > MOST_BYTES,
        )
    except (OSError, http.client.HTTPException, ValueError) as error:
        words = "no answer in time" if isinstance(error, TimeoutError) else str(error) or type(error).__name__
        made = BenchAnswer(node=node.name, problem=f"{node.name} gave no answer: {words}")
    finally:
        connection.close()
    return replace(made, failures=failures(call, made))
