"""Which header fields go on, in both directions (RFC 9110, section 7.6; RFC 7239)."""

import ipaddress
import re

from tamarack.core.carrying.call import Call, Header
from tamarack.core.traffic.record import HIT, MISS
from tamarack.gateway.upstream.interface import TargetAddress

HOP_BY_HOP = frozenset(
    (
        b"connection",
        b"keep-alive",
        b"proxy-authenticate",
        b"proxy-authorization",
        b"proxy-connection",
        b"te",
        b"trailer",
        b"transfer-encoding",
        b"upgrade",
    )
)
_NOT_SENT_ON = HOP_BY_HOP | {
    b"host",
    b"content-length",
    b"expect",
    b"forwarded",
    b"x-forwarded-for",
    b"x-forwarded-host",
    b"x-forwarded-proto",
    b"x-forwarded-port",
    b"x-forwarded-prefix",
    b"x-real-ip",
    b"tamarack-call-id",
    b"tamarack-bench",
}
_NOT_SENT_BACK = HOP_BY_HOP | {
    b"access-control-allow-origin",
    b"access-control-allow-credentials",
    b"access-control-allow-headers",
    b"access-control-allow-methods",
    b"access-control-expose-headers",
    b"access-control-max-age",
}
"""Who may read an answer is the gateway's to say: a backend's own fields would open what is closed here."""
_LOOKED_AT = _NOT_SENT_BACK | {b"content-length", b"cache-status", b"age"}
_HIT = re.compile(rb";\s*hit\b")
_BODILESS = frozenset(("GET", "HEAD", "DELETE", "OPTIONS", "TRACE"))

Network = ipaddress.IPv4Network | ipaddress.IPv6Network


def listed(headers: list[Header], field: bytes) -> frozenset[bytes]:
    """The names listed in a field of comma-separated tokens, in lower case."""
    found = [value for name, value in headers if name == field]
    if not found:
        return frozenset()
    return frozenset(token.strip().lower() for value in found for token in value.split(b","))


_FROM: dict[tuple[str, bytes, str], bytes] = {}
_MOST_FROM = 4096


def _came_from(address: str, host: bytes, scheme: str) -> bytes:
    """The fields that say where a call came from; callers come again, so they are kept."""
    made = _FROM.get((address, host, scheme))
    if made is None:
        if len(_FROM) >= _MOST_FROM:
            _FROM.clear()
        plain = address.encode()
        quoted = b'"[%b]"' % plain if b":" in plain else plain
        made = _FROM[address, host, scheme] = (
            b'forwarded: for=%b;host="%b";proto=%b\r\nx-forwarded-for: %b\r\nx-forwarded-host: %b\r\n'
            b"x-forwarded-proto: %b\r\nvia: 1.1 tamarack\r\ntamarack-call-id: "
        ) % (quoted, host, scheme.encode(), plain, host, scheme.encode())
    return made


def request_head(call: Call, target: TargetAddress, call_id: bytes, host: bytes, scheme: str) -> bytes:
    """The head to send to a target: the call's fields without those of this hop, and where it came from."""
    path = call.path[len(call.operation.base_path) :] or b"/"
    parts = [call.method.encode(), b" ", target.path, path]
    if call.query:
        parts += (b"?", call.query)
    parts.append(target.head)
    for name, value in call.headers:
        if name not in _NOT_SENT_ON:
            parts += (name, b": ", value, b"\r\n")
        elif name == b"connection" and value.lower() not in (b"keep-alive", b"close"):
            call.headers = without_listed(call.headers)
            return request_head(call, target, call_id, host, scheme)
    if call.length:
        framing = b"content-length: %d\r\n" % call.length if call.length > 0 else b"transfer-encoding: chunked\r\n"
        parts.append(framing)
    elif call.method not in _BODILESS:
        parts.append(b"content-length: 0\r\n")
    parts += (_came_from(call.address, host, scheme), call_id, b"\r\n\r\n")
    return b"".join(parts)


def without_listed(headers: list[Header]) -> list[Header]:
    """The fields without Connection and without those that it lists (RFC 9110, section 7.6.1)."""
    names = listed(headers, b"connection") | {b"connection"}
    return [field for field in headers if field[0] not in names]


def answer_fields(received: list[Header]) -> tuple[bytes, bool, str]:
    """An answer's fields without those of the hop to the target, as bytes; whether they tell its length; and whether
    it says that it came from a cache: `hit`, `miss`, or nothing (Cache-Status, RFC 9211; Age, RFC 9111, 5.1)."""
    parts: list[bytes] = []
    has_length = False
    cache = ""
    for name, value in received:
        if name not in _LOOKED_AT:
            parts += (name, b": ", value, b"\r\n")
        elif name == b"content-length":
            parts += (name, b": ", value, b"\r\n")
            has_length = True
        elif name == b"cache-status":
            parts += (name, b": ", value, b"\r\n")
            cache = HIT if _HIT.search(value) else cache or MISS
        elif name == b"age":
            parts += (name, b": ", value, b"\r\n")
            cache = cache or HIT
        elif name == b"connection" and value.lower() not in (b"keep-alive", b"close"):
            return answer_fields(without_listed(received))
    return b"".join(parts), has_length, cache


def caller_address(peer: str, headers: list[Header], trusted: tuple[Network, ...]) -> str:
    """The caller's address: the peer's, or what trusted proxies say of it (the last that is not one of them)."""
    if not trusted or not _within(peer, trusted):
        return peer
    hops = [hop.strip() for name, value in headers if name == b"x-forwarded-for" for hop in value.split(b",")]
    for hop in reversed(hops):
        try:
            address = str(ipaddress.ip_address(hop.decode("ascii", "replace").strip("[]")))
        except ValueError:
            return peer
        if not _within(address, trusted):
            return address
        peer = address
    return peer


def _within(address: str, networks: tuple[Network, ...]) -> bool:
    found = ipaddress.ip_address(address)
    return any(found in network for network in networks)


def networks(text: str) -> tuple[Network, ...]:
    """Networks from a comma-separated setting. Raises ValueError naming the one that is not one."""
    found = []
    for part in filter(None, (part.strip() for part in text.split(","))):
        try:
            found.append(ipaddress.ip_network(part))
        except ValueError as error:
            raise ValueError(f"{part!r} is not a network like 10.0.0.0/8") from error
    return tuple(found)
