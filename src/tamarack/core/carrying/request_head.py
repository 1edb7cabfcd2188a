"""A request's head, checked and read once (RFC 9112, sections 2 to 6; RFC 9110, sections 7 and 10).

The parser (llhttp) has already refused what is no HTTP/1: bare line feeds, folded fields, a length together with
chunks. Here is what HTTP asks of a gateway besides: one Host by its grammar, one meaning of the target, known methods
and codings, and the fields that `Connection` lists taken off before anything looks at the call.
"""

from __future__ import annotations

from typing import Final

from tamarack.core.carrying.call import Call
from tamarack.core.errors import CoreError
from tamarack.core.http.fields import without_listed
from tamarack.core.http.heads import HeadFields, is_host

METHODS: Final = {name.encode(): name for name in ("GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS", "TRACE")}
"""Methods that a gateway carries, where an operation offers them."""


class BadHead(CoreError, ValueError):
    """The request is not carried; `reason` is the code of why."""

    def __init__(self, reason: str) -> None:
        super().__init__(reason)
        self.reason = reason


def read_head(
    call: Call, method: bytes, target: bytes, version: str, fields: HeadFields, most_target: int = 16_384
) -> None:
    """Fill a call from its head. Raises `BadHead`.

    `most_target` are the bytes that a path and query may have together.
    """
    known = METHODS.get(method)
    call.method = known or method.decode("latin-1")
    call.headers = fields.headers
    old = version == "1.0"
    if version != "1.1":
        if not old:
            raise BadHead("ambiguous-request")
        call.old = True
    call.agent = fields.agent
    call.media = fields.media
    call.ticket = fields.ticket
    call.length = fields.length
    coding = fields.coding
    if coding is not None and coding != b"chunked":
        ends = coding.rpartition(b",")[2].strip() == b"chunked"  # so the body's end is known (RFC 9112, 6.3)
        raise BadHead("unknown-coding" if ends else "ambiguous-request")
    call.keep_alive = not fields.closes and not old
    call.expects = fields.expects and not old
    if known is None:
        raise BadHead("unknown-method")
    hosts = fields.hosts
    if hosts != 1 and (hosts or not old):
        raise BadHead("ambiguous-request")
    if hosts and not fields.host_is_one:
        raise BadHead("ambiguous-request")
    if coding is not None and old:
        raise BadHead("ambiguous-request")
    if len(target) > most_target:
        raise BadHead("target-too-long")
    host = fields.host
    if target[:1] != b"/":
        if target == b"*" and known == "OPTIONS":
            call.path = target
        else:
            host, target = _settled(target)
    if target.find(b"#") >= 0:
        raise BadHead("bad-path")
    call.host = host
    call.path, _, call.query = target.partition(b"?")
    if fields.lists:
        call.headers = without_listed(fields.headers)
    else:
        call.head_fields = fields


def _settled(target: bytes) -> tuple[bytes, bytes]:
    """Host and origin form of an absolute target, which counts in place of Host (RFC 9112, 3.2.2)."""
    scheme, separator, rest = target.partition(b"://")
    if not separator or scheme.lower() not in (b"http", b"https"):
        raise BadHead("ambiguous-request")
    place = min((p for p in map(rest.find, (b"/", b"?", b"#")) if p >= 0), default=len(rest))
    host, origin = rest[:place], rest[place:]
    if not is_host(host):
        raise BadHead("ambiguous-request")
    return host, origin if origin[:1] == b"/" else b"/" + origin
