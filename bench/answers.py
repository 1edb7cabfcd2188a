"""What stands in the backend's place or beside it, as the gateway bench compares it."""

from typing import Any

from tamarack.core.mocking.documented import DocumentedAnswer

OPEN = {"kind": "open"}
CACHE = {"kind": "response-cache", "how_long": "for a time of its own, whatever the backend says", "own_time": 3_600}
VARIANTS: dict[str, list[dict[str, Any]]] = {
    "hit": [OPEN, CACHE],
    "mock": [OPEN, {"kind": "mock"}],
    "fixed": [OPEN, {"kind": "fixed-answer", "status": 200, "body": "x" * 1024, "media": "text/plain"}],
    "fixed-filled": [
        OPEN,
        {"kind": "fixed-answer", "status": 200, "body": "{{ call.path }} " + "x" * 1000, "media": "text/plain"},
    ],
    "two-targets": [OPEN],
    "retries-and-limits": [OPEN, {"kind": "retries"}, {"kind": "time-limits", "whole_ms": 30_000}],
}
TITLES = {
    "hit": "a hit in memory",
    "mock": "a mock",
    "fixed": "a fixed answer",
    "fixed-filled": "a fixed answer with a value of the call",
    "two-targets": "two targets, breaker, checks",
    "retries-and-limits": "retries and time limits",
}
ANSWERS = (DocumentedAnswer(status=200, media="text/plain", body="x" * 1024),)
"""What the mock's operations document."""


def backend(variant: str, port: int) -> dict[str, Any]:
    """The backend of a variant; two targets are one program under two names."""
    if variant != "two-targets":
        return {"name": "timetable", "targets": [{"address": f"http://127.0.0.1:{port}"}]}
    targets = [{"address": f"http://{host}:{port}"} for host in ("127.0.0.1", "localhost")]
    return {"name": "timetable", "targets": targets, "breaker": {}, "health": {}}
