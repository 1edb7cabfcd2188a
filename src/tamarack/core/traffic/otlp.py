"""Records of calls for other programs: OTLP logs in their JSON form (OpenTelemetry Protocol, 1.x).

Each batch is one entry of `resourceLogs`, with the node and the batch's number in its resource; a receiver that gets a
batch a second time knows it by that number. Field names are OpenTelemetry's where it has one.
"""

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any

from tamarack.core.traffic.fields import CALL_FIELDS, outcome_of

PATH = "/v1/logs"
"""Where a collector takes logs, by the protocol."""
BATCH = "tamarack.batch"

_SENT = {field.column: field for field in CALL_FIELDS.values() if field.column not in ("", "at", "node")}
COLUMNS = ("at", *_SENT)
"""What is read of each call."""
_SEVERITY = {"answered": (9, "INFO"), "refused": (13, "WARN"), "failed": (17, "ERROR")}
"""Severity number and text of each outcome (OpenTelemetry logs data model)."""


def _attribute(name: str, value: Any) -> dict[str, Any]:
    """An attribute; 64-bit integers are text in JSON (Protocol Buffers, JSON mapping)."""
    if isinstance(value, int):
        return {"key": name, "value": {"intValue": str(value)}}
    return {"key": name, "value": {"stringValue": str(value)}}


def _nanoseconds(at: datetime) -> str:
    return str(int(at.timestamp()) * 1_000_000_000 + at.microsecond * 1000)


def _record(call: Mapping[str, Any]) -> dict[str, Any]:
    number, text = _SEVERITY[outcome_of(call["status"], call["reason"])]
    kept = [
        _attribute(field.otel_name, call[column])
        for column, field in _SENT.items()
        if call[column] or column == "status"
    ]
    return {
        "timeUnixNano": _nanoseconds(call["at"]),
        "severityNumber": number,
        "severityText": text,
        "body": {"stringValue": f"{call['method']} {call['path']} {call['status']}"},
        "attributes": kept,
    }


def request(batches: Sequence[tuple[int, str, Sequence[Mapping[str, Any]]]]) -> dict[str, Any]:
    """The body of a request: batches as number, node and calls (by `COLUMNS`)."""
    return {
        "resourceLogs": [
            {
                "resource": {
                    "attributes": [
                        _attribute("service.name", "tamarack"),
                        _attribute("service.instance.id", node),
                        _attribute(BATCH, number),
                    ]
                },
                "scopeLogs": [{"scope": {"name": "tamarack.calls"}, "logRecords": [_record(call) for call in calls]}],
            }
            for number, node, calls in batches
        ]
    }
