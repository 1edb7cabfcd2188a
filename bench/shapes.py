"""What changes requests and answers, as the gateway bench compares it. Bodies are answers made on the node."""

import json
from typing import Any

OPEN = {"kind": "open"}
_SAILING = {
    "id": "G-0745",
    "from": "aldernes",
    "to": "corran",
    "departs": "2026-11-28T07:45:00+01:00",
    "delay_minutes": 0,
}


def _made(rows: int) -> dict[str, Any]:
    return {"kind": "fixed-answer", "status": 200, "media": "application/json", "body": json.dumps([_SAILING] * rows)}


_TWO, _FIVE = _made(18), _made(45)
_EDITS = ["remove /*/delay_minutes", "rename /*/from to origin", 'set /*/line: "G"']
VARIANTS: dict[str, list[dict[str, Any]]] = {
    "plain-fields": [OPEN, {"kind": "request-fields", "edits": ["set header X-A: b", "remove header X-B"]}],
    "fields": [OPEN, {"kind": "request-fields", "edits": ["set header X-Path: {{ call.path }}", "remove header X-B"]}],
    "answer-fields": [OPEN, {"kind": "answer-fields", "edits": ["set header X-A: b", "remove header Server"]}],
    "rewrite": [OPEN, {"kind": "rewrite", "path": "/lines/all"}],
    "json-2kb": [OPEN, _TWO],
    "json-2kb-edited": [OPEN, _TWO, {"kind": "answer-body", "edits": _EDITS}],
    "json-5kb": [OPEN, _FIVE],
    "json-5kb-to-xml": [OPEN, _FIVE, {"kind": "answer-body", "do": "JSON to XML"}],
}
TITLES = {
    "plain-fields": "two plain edits of request fields",
    "fields": "request fields with a value of the call",
    "answer-fields": "two edits of answer fields",
    "rewrite": "another path for the backend",
    "json-2kb": "2 kB of JSON, made here",
    "json-2kb-edited": "the same, with three edits",
    "json-5kb": "5 kB of JSON, made here",
    "json-5kb-to-xml": "the same, as XML",
}
