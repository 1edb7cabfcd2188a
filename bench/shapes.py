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
_SCHEMA = {
    "type": "object",
    "required": ["id", "from", "to", "departs"],
    "additionalProperties": False,
    "properties": {
        "id": {"type": "string", "pattern": "^[A-Z]-[0-9]{4}$"},
        "from": {"enum": ["aldernes", "corran"]},
        "to": {"type": "string", "maxLength": 40},
        "departs": {"type": "string", "format": "date-time"},
        "delay_minutes": {"type": "integer", "minimum": 0},
    },
}
DOCUMENT = {
    "openapi": "3.1.0",
    "components": {"schemas": {"Sailing": _SCHEMA}},
    "paths": {
        "/sailings": {
            "get": {
                "parameters": [
                    {"name": "limit", "in": "query", "schema": {"type": "integer", "maximum": 50}},
                    {"name": "from", "in": "query", "schema": {"enum": ["aldernes", "corran"]}},
                    {"name": "user-agent", "in": "header", "schema": {"type": "string", "maxLength": 200}},
                ],
                "responses": {
                    "200": {
                        "content": {
                            "application/json": {
                                "schema": {"type": "array", "items": {"$ref": "#/components/schemas/Sailing"}}
                            },
                            "text/plain": {},
                        }
                    }
                },
            }
        }
    },
}
KINDS = [
    {
        "name": "bench",
        "title": "Bench",
        "parameters": [{"name": "port", "default": "corran"}],
        "request": 'when "from" in query && query.from != params.port\n  refuse 422: another port',
    },
    {"name": "bench-sets", "title": "Bench, sets", "request": "set header X-Method = call.method"},
]
VARIANTS: dict[str, list[dict[str, Any]]] = {
    "plain-fields": [OPEN, {"kind": "request-fields", "edits": ["set header X-A: b", "remove header X-B"]}],
    "fields": [OPEN, {"kind": "request-fields", "edits": ["set header X-Path: {{ call.path }}", "remove header X-B"]}],
    "answer-fields": [OPEN, {"kind": "answer-fields", "edits": ["set header X-A: b", "remove header Server"]}],
    "rewrite": [OPEN, {"kind": "rewrite", "path": "/lines/all"}],
    "json-2kb": [OPEN, _TWO],
    "json-2kb-edited": [OPEN, _TWO, {"kind": "answer-body", "edits": _EDITS}],
    "json-2kb-checked": [OPEN, _TWO, {"kind": "answer-check"}],
    "request-checked": [OPEN, {"kind": "request-check"}],
    "written-condition": [OPEN, {"kind": "written:bench", "name": "bench"}],
    "written-value": [OPEN, {"kind": "written:bench-sets", "name": "bench-sets"}],
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
    "json-2kb-checked": "the same, checked against its schema",
    "request-checked": "a request's parameters checked against the description",
    "written-condition": "a written kind with one condition",
    "written-value": "a written kind that sets a field by an expression",
    "json-5kb": "5 kB of JSON, made here",
    "json-5kb-to-xml": "the same, as XML",
}
