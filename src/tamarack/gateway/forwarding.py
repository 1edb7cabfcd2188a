"""Which header fields go on, in both directions (RFC 9110, section 7.6; RFC 7239)."""

import ipaddress

from tamarack.core.call import Call, Header
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
}
_BODILESS = frozenset(("GET", "HEAD", "DELETE", "OPTIONS", "TRACE"))

Network = ipaddress.IPv4Network | ipaddress.IPv6Network


def listed(headers: list[Header], field: bytes) -> frozenset[bytes]:
    """The names listed in a field of comma-separated tokens, in lower case."""
    found = [value for name, value in headers if name == field]
    if not found:
        return frozenset()
    return frozenset(token.strip().lower() for value in found for token in value.split(b","))


def request_head(call: Call, target: TargetAddress, call_id: bytes, host: bytes, scheme: bytes) -> bytes:
    """The head to send to a target: the call's fields without those of this hop, and where it came from."""
    path = call.path[len(call.operation.base_path) :] or b"/"
    if target.path:
        path = target.path + path
    parts = [call.method.encode(), b" ", path]
    if call.query:
        parts += (b"?", call.query)
    parts += (b" HTTP/1.1\r\nhost: ", target.host_field, b"\r\n")
    connection: frozenset[bytes] = frozenset()
    for name, value in call.headers:
        if name == b"connection" and value.lower() not in (b"keep-alive", b"close"):
            connection = listed(call.headers, b"connection")
            break
    for name, value in call.headers:
        if name not in _NOT_SENT_ON and name not in connection:
            parts += (name, b": ", value, b"\r\n")
    if call.length > 0 or (call.length == 0 and call.method not in _BODILESS):
        parts.append(b"content-length: %d\r\n" % call.length)
    elif call.length < 0:
        parts.append(b"transfer-encoding: chunked\r\n")
    address = call.address.encode()
    quoted = b'"[%b]"' % address if b":" in address else address
    parts += (
        b"forwarded: for=",
        quoted,
        b';host="',
        host,
        b'";proto=',
        scheme,
        b"\r\nx-forwarded-for: ",
        address,
        b"\r\nx-forwarded-host: ",
        host,
        b"\r\nx-forwarded-proto: ",
        scheme,
        b"\r\nvia: 1.1 tamarack\r\ntamarack-call-id: ",
        call_id,
        b"\r\n\r\n",
    )
    return b"".join(parts)


def answer_headers(received: list[Header]) -> list[Header]:
    """An answer's fields without those of the hop to the target."""
    connection: frozenset[bytes] = frozenset()
    for name, value in received:
        if name == b"connection" and value.lower() not in (b"keep-alive", b"close"):
            connection = listed(received, b"connection")
            break
    if connection:
        return [field for field in received if field[0] not in HOP_BY_HOP and field[0] not in connection]
    return [field for field in received if field[0] not in HOP_BY_HOP]


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
