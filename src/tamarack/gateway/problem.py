"""Refusals as problem details (RFC 9457), ready to send."""

import json
from http import HTTPStatus

from tamarack.core.carrying.refusals import REASONS, Reason

CALL_ID = b"tamarack-call-id"
"""The response header field that carries the call id."""


def _line(status: int) -> bytes:
    try:
        phrase = HTTPStatus(status).phrase
    except ValueError:
        phrase = ""
    return f"HTTP/1.1 {status} {phrase}\r\n".encode()


class Problems:
    """The bodies of all refusals; only the call id is put in when one is sent."""

    def __init__(self, portal_url: str) -> None:
        self._portal_url = portal_url
        self._heads = {reason.code: self._head(reason, portal_url) for reason in REASONS.values()}

    @staticmethod
    def _head(reason: Reason, portal_url: str, detail: str = "") -> bytes:
        fields = {
            "type": f"{portal_url}/reasons/{reason.code}",
            "title": reason.title,
            "status": reason.status,
            "detail": detail or reason.detail,
            "reason": reason.code,
        }
        return json.dumps(fields)[:-1].encode() + b', "call_id": "'

    def body(self, code: str, call_id: str, detail: str = "") -> bytes:
        """The body of a refusal; `detail` stands in place of the reason's own words."""
        head = self._heads[code] if not detail else self._head(REASONS[code], self._portal_url, detail)
        return head + call_id.encode() + b'"}'


STATUS_LINES = {status: _line(status) for status in range(200, 600)}
"""The first line of an answer, by status."""
