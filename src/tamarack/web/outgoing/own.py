"""Asking our own programs, at the addresses that the settings name, as anyone outside would."""

from __future__ import annotations

import http.client
import ssl
import time
from base64 import b64encode
from dataclasses import dataclass
from urllib.parse import urlsplit

from tamarack.core.trying.examples import ExampleCall

TIMEOUT_S = 10.0
MOST_BYTES = 200_000


@dataclass(frozen=True, slots=True)
class Came:
    """What came back; `problem` where nothing did."""

    status: int = 0
    reason: str = ""
    headers: tuple[tuple[str, str], ...] = ()
    body: str = ""
    ms: float = 0.0
    problem: str = ""


def ask_own(call: ExampleCall) -> Came:
    """Send a request, whose address is one of ours, and read the answer, both bounded. Never raises."""
    parts = urlsplit(call.url)
    host, port = parts.hostname or "", parts.port
    connection = (
        http.client.HTTPSConnection(host, port, timeout=TIMEOUT_S, context=ssl.create_default_context())
        if parts.scheme == "https"
        else http.client.HTTPConnection(host, port, timeout=TIMEOUT_S)
    )
    headers = dict(call.headers)
    if call.basic is not None:
        headers["Authorization"] = "Basic " + b64encode(":".join(call.basic).encode()).decode()
    path = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
    begun = time.perf_counter()
    try:
        connection.request(call.method, path, call.body.encode() or None, headers)
        answer = connection.getresponse()
        body = answer.read(MOST_BYTES).decode("utf-8", "replace")
        ms = (time.perf_counter() - begun) * 1000
        return Came(answer.status, answer.reason, tuple(answer.getheaders()), body, ms)
    except (OSError, http.client.HTTPException, ValueError) as error:
        words = "no answer in time" if isinstance(error, TimeoutError) else str(error) or type(error).__name__
        return Came(problem=f"{parts.netloc} gave no answer: {words}")
    finally:
        connection.close()
