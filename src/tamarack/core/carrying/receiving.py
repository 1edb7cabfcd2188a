"""Receiving a call: the operation it asks for, or how it ends where there is none."""

from __future__ import annotations

from typing import Final

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Reply
from tamarack.core.carrying.program import Operation
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.carrying.routing import Router, VersionChoice
from tamarack.core.http.browser import requested_headers
from tamarack.core.http.fields import Header
from tamarack.core.http.paths import BadPath, settle_path

Routed = Operation | VersionChoice[Operation] | Reply
"""What stands at a path: an operation, versions of which a call names one, or an answer that is always the same."""

_BAD_PATH: Final = Refusal(REASONS["bad-path"])
_UNKNOWN_PATH: Final = Refusal(REASONS["unknown-path"])
_WRONG_METHOD: Final = Refusal(REASONS["wrong-method"])


def receive(router: Router[Routed], call: Call) -> Operation | Refusal | Reply:
    """Find the operation of a call whose head was read; preflights, and what is not offered, end here."""
    if call.method == "OPTIONS":
        if call.path == b"*":
            return Reply(204, b"allow: GET, HEAD, POST, PUT, PATCH, DELETE, OPTIONS\r\n")
        if is_preflight(call.method, call.headers):
            return _preflight(router, call)
    found: Routed | frozenset[str] | Refusal | None = router.exactly(call.method, call.path)
    if found is None:
        try:
            call.path = settle_path(call.path)
        except BadPath:
            return _BAD_PATH
        found = router.find(call.method, call.path)
    if type(found) is VersionChoice:
        found = found.find(call)
        if type(found) is Refusal:
            return found
    if type(found) is Operation:
        if call.method in ("OPTIONS", "TRACE") and _at_its_end(call.headers):
            return Reply(204, b"allow: %b\r\n" % found.name.partition(" ")[0].upper().encode())
        return found
    if type(found) is Reply:
        return found
    if not isinstance(found, frozenset):
        return _UNKNOWN_PATH
    allow = ", ".join(sorted(found)).encode()
    return Refusal(REASONS["wrong-method"], ((b"allow", allow),))


def _at_its_end(headers: list[Header]) -> bool:
    """Whether a call may be forwarded no more (Max-Forwards: 0; RFC 9110, 7.6.2)."""
    return any(name == b"max-forwards" and value.strip(b"0") == b"" and value != b"" for name, value in headers)


def is_preflight(method: str, headers: list[Header]) -> bool:
    """Whether a browser asks, before a call, if it may be made (Fetch, 3.2.2)."""
    names = [name for name, _ in headers]
    return method == "OPTIONS" and b"origin" in names and b"access-control-request-method" in names


def _preflight(router: Router[Routed], call: Call) -> Reply | Refusal:
    """Answer a preflight. No credential is asked for, and nothing is metered: the call itself will be."""
    fields = dict(call.headers)
    try:
        call.path = settle_path(call.path)
    except BadPath:
        return _BAD_PATH
    method = fields[b"access-control-request-method"].decode("latin-1").strip()
    found: Routed | frozenset[str] | None = router.find(method, call.path)
    if type(found) is VersionChoice:
        found = found.anywhere(method, call.path)
    if type(found) is not Operation:
        return _UNKNOWN_PATH if found is None else _WRONG_METHOD
    call.operation = found
    if found.browser is None:
        return Refusal(REASONS["browser-closed"], note="no browser access rule holds here")
    names = requested_headers(fields.get(b"access-control-request-headers", b""))
    answer, forbidden = found.browser.preflight(fields[b"origin"], method, names)
    if forbidden:
        call.fields = answer
        return Refusal(REASONS["browser-closed"], note=forbidden)
    return Reply(204, answer)
