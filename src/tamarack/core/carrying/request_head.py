"""A request's head, checked and read once (RFC 9112, sections 2 to 6; RFC 9110, sections 7 and 10).

The parser (llhttp) has already refused what is no HTTP/1: bare line feeds, folded fields, a length together with
chunks. Here is what HTTP asks of a gateway besides: one Host by its grammar, one meaning of the target, known methods
and codings, and the fields that `Connection` lists taken off before anything looks at the call.
"""

from __future__ import annotations

import re

from tamarack.core.carrying.call import Call
from tamarack.core.errors import CoreError
from tamarack.core.http.fields import Header, listed, without_listed

METHODS = {name.encode(): name for name in ("GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS", "TRACE")}
"""Methods that a gateway carries, where an operation offers them."""
_LISTS_NOTHING = frozenset((b"keep-alive", b"close"))
_HOST = re.compile(
    rb"(?:\[[0-9A-Fa-f:.]{2,45}\]|\[[vV][0-9A-Fa-f]+\.[!$&-.0-;=A-Z_a-z~]+\]"
    rb"|(?:[!$&-+\-.0-9;=A-Z_a-z~]|%[0-9A-Fa-f]{2}){1,255})(?::[0-9]{0,5})?\Z"
)
"""`uri-host [":" port]` (RFC 9110, 7.2; RFC 3986, 3.2.2): not empty, for http's authority never is, and without commas,
for what is passed on in `X-Forwarded-Host` is read as a list."""

_HOSTS: set[bytes] = set()
_MOST_HOSTS = 4096


class BadHead(CoreError, ValueError):
    """The request is not carried; `reason` is the code of why."""

    def __init__(self, reason: str) -> None:
        super().__init__(reason)
        self.reason = reason


def is_host(value: bytes) -> bool:
    """Whether a value is a host with or without a port, by the grammar. Those seen before are known."""
    if value in _HOSTS:
        return True
    if _HOST.match(value) is None:
        return False
    if len(_HOSTS) >= _MOST_HOSTS:
        _HOSTS.clear()
    _HOSTS.add(value)
    return True


def read_head(
    call: Call, method: bytes, target: bytes, version: str, headers: list[Header], most_target: int = 16_384
) -> None:
    """Fill a call from its head. Names of fields come in lower case. Raises `BadHead`.

    `most_target` are the bytes that a path and query may have together.
    """
    known = METHODS.get(method)
    call.method = known or method.decode("latin-1")
    call.headers = headers
    call.old = version == "1.0"
    if version != "1.1" and not call.old:
        raise BadHead("ambiguous-request")
    named = dict(headers)
    host = named.get(b"host", b"")
    if len(named) == len(headers):
        call.fields_by_name = named
        hosts = 1 if b"host" in named else 0
    else:
        hosts = sum(name == b"host" for name, _ in headers)
    if b"user-agent" in named:
        call.agent = named[b"user-agent"]
    if b"content-length" in named:
        call.length = int(named[b"content-length"])  # a second one, and one beside chunks, the parser refuses
    if b"content-type" in named:
        call.media = named[b"content-type"]
    chunked = b"transfer-encoding" in named
    if chunked:
        codings = [value.strip().lower() for name, value in headers if name == b"transfer-encoding"]
        if codings != [b"chunked"]:
            ends = codings[-1].rpartition(b",")[2].strip() == b"chunked"  # so the body's end is known (RFC 9112, 6.3)
            raise BadHead("unknown-coding" if ends else "ambiguous-request")
        call.length = -1
    lists = False
    if b"connection" in named:
        tokens = listed(headers, b"connection")
        call.keep_alive = b"close" not in tokens and not call.old
        lists = not tokens <= _LISTS_NOTHING
    elif call.old:
        call.keep_alive = False
    if b"expect" in named:
        call.expects = named[b"expect"].strip().lower() == b"100-continue" and not call.old
    if b"tamarack-bench" in named:
        call.ticket = named[b"tamarack-bench"]
    if known is None:
        raise BadHead("unknown-method")
    if hosts != 1 and (hosts or not call.old):
        raise BadHead("ambiguous-request")
    if host not in _HOSTS and hosts and not is_host(host):
        raise BadHead("ambiguous-request")
    if chunked and call.old:
        raise BadHead("ambiguous-request")
    if len(target) > most_target:
        raise BadHead("target-too-long")
    if target[:1] != b"/":
        if target == b"*" and known == "OPTIONS":
            call.path = target
        else:
            host, target = _settled(target)
    if b"#" in target:
        raise BadHead("bad-path")
    call.host = host
    call.path, _, call.query = target.partition(b"?")
    if lists:
        call.headers = without_listed(headers)
        call.fields_by_name = None


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
