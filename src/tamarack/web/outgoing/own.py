"""Asking our own programs, at the addresses that the settings name, as anyone outside would."""

from __future__ import annotations

import time
from base64 import b64encode

from tamarack.core.http.reach import Reach
from tamarack.core.trying.bench import BenchAnswer
from tamarack.core.trying.examples import ExampleCall
from tamarack.web.outgoing.asking import NotReached, ask

TIMEOUT_S = 10.0
MOST_BYTES = 200_000
_ANYWHERE = Reach(closed=())
"""The settings say where our own programs are: nobody types these addresses."""


def ask_own(call: ExampleCall) -> BenchAnswer:
    """Send a request, whose address is one of ours, and read the answer, both bounded. Never raises."""
    headers = dict(call.headers)
    if call.basic is not None:
        headers["Authorization"] = "Basic " + b64encode(":".join(call.basic).encode()).decode()
    begun = time.perf_counter()
    try:
        answer, body = ask(call.method, call.url, headers, call.body.encode() or None, _ANYWHERE, TIMEOUT_S)
    except (NotReached, ValueError) as error:
        return BenchAnswer(problem=str(error))
    ms = (time.perf_counter() - begun) * 1000
    text = body[:MOST_BYTES].decode("utf-8", "replace")
    return BenchAnswer(answer.status, answer.reason, tuple(answer.getheaders()), text, ms, cut=len(body) > MOST_BYTES)
