"""Refusals as problem details (RFC 9457), ready to send."""

import json
from http import HTTPStatus

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Reply
from tamarack.core.carrying.refusals import REASONS, Reason, Refusal
from tamarack.core.http.fields import field_line


def _line(status: int) -> bytes:
    try:
        phrase = HTTPStatus(status).phrase
    except ValueError:
        phrase = ""
    return f"HTTP/1.1 {status} {phrase}\r\n".encode()


STATUS_LINES = {status: _line(status) for status in range(200, 600)}
"""The first line of an answer, by status."""
_FIELDS = b"content-type: application/problem+json\r\n"


class Problems:
    """The answers of all refusals; only what differs from call to call is put in when one is sent."""

    def __init__(self, portal_url: str) -> None:
        self._portal_url = portal_url
        self._heads = {reason.code: self._head(reason, reason.detail) for reason in REASONS.values()}

    def _head(self, reason: Reason, detail: str) -> bytes:
        fields = {
            "type": f"{self._portal_url}/reasons/{reason.code}",
            "title": reason.title,
            "status": reason.status,
            "detail": detail,
            "reason": reason.code,
        }
        return json.dumps(fields)[:-1].encode() + b', "call_id": "'

    def reply(self, refusal: Refusal, call: Call) -> Reply:
        """The answer to a refused call, which notes why it was refused."""
        reason = refusal.reason
        call.reason = reason.code
        call.policy = refusal.policy
        call.note = refusal.note or call.note
        head = self._heads[reason.code] if not refusal.detail else self._head(reason, refusal.detail)
        fields = _FIELDS
        for name, value in refusal.headers:
            fields += field_line(name, value)
        return Reply(reason.status, fields, head + call.id + b'"}')
