"""Refusals as problem details (RFC 9457), ready to send."""

import json
from http import HTTPStatus
from urllib.parse import urlencode

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Reply
from tamarack.core.carrying.refusals import Reason, Refusal
from tamarack.core.http.fields import field_line
from tamarack.core.shaping.error_answers import in_place_of


def _line(status: int) -> bytes:
    try:
        phrase = HTTPStatus(status).phrase
    except ValueError:
        phrase = ""
    return f"HTTP/1.1 {status} {phrase}\r\n".encode()


STATUS_LINES = {status: _line(status) for status in range(200, 600)}
"""The first line of an answer, by status."""
_FIELDS = b"content-type: application/problem+json\r\n"


Named = tuple[str, str, str] | None
"""API, version and operation that a call asked for; None where it found none."""
MOST_HEADS = 4_096
"""Answers that are kept ready; what refusals say comes from the configuration, so there are few."""


class Problems:
    """The answers of all refusals; only what differs from call to call is put in when one is sent.

    `type` leads to the page on the reason; `instance` leads to the same page, filled in for this call's operation.
    """

    def __init__(self, portal_url: str) -> None:
        self.portal_url = portal_url
        self._heads: dict[tuple[str, str, Named], bytes] = {}

    def _head_of(self, refusal: Refusal, named: Named) -> bytes:
        """The problem up to the call id, which ends its `instance`."""
        reason, detail = refusal.reason, refusal.detail
        if refusal.status:  # a text made for this call: another call's is another
            return self._head(reason, detail or reason.detail, named, refusal.status)
        key = (reason.code, detail, named)
        found = self._heads.get(key)
        if found is None:
            if len(self._heads) >= MOST_HEADS:
                self._heads.clear()
            found = self._heads[key] = self._head(reason, detail or reason.detail, named, reason.status)
        return found

    def _head(self, reason: Reason, detail: str, named: Named, status: int) -> bytes:
        asked = dict(zip(("api", "version", "operation"), named, strict=True)) if named is not None else {}
        page = f"{self.portal_url}/reasons/{reason.code}"
        fields = {
            "type": page,
            "title": reason.title,
            "status": status,
            "detail": detail,
            "reason": reason.code,
            "instance": f"{page}?{urlencode(asked | {'call': ''})}",
        }
        return json.dumps(fields)[:-2].encode()

    def reply(self, refusal: Refusal, call: Call) -> Reply:
        """The answer to a refused call, which notes why it was refused."""
        reason = refusal.reason
        call.reason = reason.code
        call.policy = refusal.policy
        call.note = refusal.note or call.note
        operation = call.operation
        named = operation.named_in_records if operation is not None else None
        head = self._head_of(refusal, named)
        fields = _FIELDS
        for name, value in refusal.headers:
            fields += field_line(name, value)
        told = Reply(
            refusal.status or reason.status,
            fields,
            b'%b%b", "call_id": "%b"%b}' % (head, call.id, call.id, refusal.members),
        )
        if operation is None:
            return told
        return in_place_of(told, refusal, call) if operation.errors else told
