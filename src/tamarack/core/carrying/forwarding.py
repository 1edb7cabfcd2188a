"""The head that goes on to a target, and the answer's fields on their way back (RFC 9110, section 7.6; RFC 7239)."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Final, Protocol

from tamarack.core.carrying.call import Call, Published
from tamarack.core.http.fields import NOT_SENT_BACK, PASSES, Header, goes_on, without_listed
from tamarack.core.http.heads import Answered
from tamarack.core.http.own import marked, marked_query, without_own_fields, without_own_query
from tamarack.core.http.paths import behind
from tamarack.core.http.target import Target
from tamarack.core.traffic.record import HIT, MISS

_HIT: Final = re.compile(rb";\s*hit\b")
_COLON: Final = b": "
_BODILESS: Final = frozenset(("GET", "HEAD", "DELETE", "OPTIONS", "TRACE"))
_COUNTED_DOWN: Final = frozenset(("OPTIONS", "TRACE"))
"""Methods whose Max-Forwards is counted down (RFC 9110, 7.6.2)."""
_ADDRESSES: Final = frozenset((b"location", b"content-location"))
_LOOKED_AT: Final = NOT_SENT_BACK | _ADDRESSES | {b"content-length", b"cache-status", b"age", b"date", b"connection"}
_LIST_NOTHING: Final = frozenset((b"keep-alive", b"close"))

_FROM: Final[dict[tuple[str, bytes, str], bytes]] = {}
_MOST_FROM: Final = 4096


def _came_from(address: str, host: bytes, scheme: str) -> bytes:
    """The fields that say where a call came from; callers come again, so they are kept.

    `host` is one by its grammar, so nothing in it could end a quoted string.
    """
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


def request_head(call: Call, operation: Published, target: Target, signs_in: Header | None = None) -> bytes:
    """The head to send to a target: the call's fields without those of this hop, and where it came from."""
    path, base, method = call.path, operation.base, call.asks_method or call.method
    rest = call.asks_path
    if rest is None:
        rest = path[len(base) :] if path.startswith(base) else behind(path, operation.base_segments)
    if call.query:
        rest = b"%b?%b" % (rest or b"/", call.query)
    length = call.length if call.body is None else len(call.body)
    framing = b""
    if length:
        framing = b"content-length: %d\r\n" % length if length > 0 else b"transfer-encoding: chunked\r\n"
    elif method not in _BODILESS:
        framing = b"content-length: 0\r\n"
    came = _FROM.get((call.address, call.host, call.scheme))
    if came is None:
        came = _came_from(call.address, call.host, call.scheme)
    if call.query and marked_query(call.query):
        query = without_own_query(call.query)
        rest = rest.partition(b"?")[0] + (b"?" + query if query else b"")
    headers, read = call.headers, call.head_fields
    if read is None or signs_in is not None or method in _COUNTED_DOWN:
        lines = _lines(headers, method, signs_in)
    elif read.sent_of is headers:
        lines = read.sent
    else:
        lines = read.sent = _lines(headers, method, None)
        read.sent_of = headers
    return b"%b %b%b%b%b%b%b%b\r\n\r\n" % (
        method.encode(),
        target.path,
        rest or b"/",
        target.head,
        lines,
        framing,
        came,
        call.id,
    )


def _lines(headers: list[Header], method: str, signs_in: Header | None) -> bytes:
    """The fields that go on to a target, as lines."""
    try:
        passed = [field for field in headers if PASSES[field[0]]]
    except KeyError:  # a name that is new here
        passed = [field for field in headers if goes_on(field[0])]
    if method in _COUNTED_DOWN:
        passed = [_counted_down(field) for field in passed]
    if signs_in is not None:
        passed = [field for field in passed if field[0] != signs_in[0]]
    lines = _written(passed)
    if marked(lines):
        lines = _written(without_own_fields(passed))
    return lines if signs_in is None else lines + _written([signs_in])


def _written(fields: list[Header]) -> bytes:
    return b"\r\n".join(map(_COLON.join, fields)) + b"\r\n" if fields else b""


def _counted_down(field: Header) -> Header:
    """Max-Forwards with one less; any other field as it is."""
    if field[0] == b"max-forwards" and field[1].isdigit():
        return field[0], b"%d" % max(0, int(field[1][:9]) - 1)
    return field


class Filter(Protocol):
    """What changes an answer's body as it passes."""

    def piece(self, data: bytes) -> bytes:
        """What goes on of a piece, cut wherever it was cut, and those before it."""
        ...

    def end(self) -> bytes:
        """What goes on when the answer has ended."""
        ...


class InTurn:
    """Filters one after another."""

    __slots__ = ("_filters",)

    def __init__(self, filters: Sequence[Filter]) -> None:
        self._filters = filters

    def piece(self, data: bytes) -> bytes:
        """See `Filter.piece`."""
        for one in self._filters:
            data = one.piece(data) if data else b""
        return data

    def end(self) -> bytes:
        """See `Filter.end`."""
        data = b""
        for one in self._filters:
            data = (one.piece(data) if data else b"") + one.end()
        return data


class Passed:
    """The backend's answer goes on to the caller: its status and fields, ready but for the gateway's own, and the body
    where it is whole already; else the driver passes it on as it comes."""

    __slots__ = ("body", "dated", "fields", "filter", "has_length", "status")

    def __init__(self, status: int, body: bytes | None) -> None:
        self.filter: Filter | None = None
        """What changes the body as it passes, after watches have seen it."""
        self.status = status
        self.body = body
        self.fields = b""
        self.has_length = False
        self.dated = False


def read_shared(passed: Passed, call: Call, target: Target | None, answer: Answered) -> None:
    """Fill in an answer's fields as `read_answer` does; those of a head that many answers share are made once."""
    head = answer.head
    if head is None or answer.headers is not head.headers or passed.filter is not None or passed.status == 204:
        read_answer(passed, call, target, answer.headers)
    elif head.passes is not None:
        passed.fields = head.passes
        passed.has_length = head.has_length
        passed.dated = head.dated
    elif read_answer(passed, call, target, answer.headers):
        head.passes = passed.fields
        head.has_length = passed.has_length
        head.dated = passed.dated


def read_answer(passed: Passed, call: Call, target: Target | None, received: list[Header]) -> bool:
    """Fill in an answer's fields: without those of the hop to the target and of the gateway's own making. Whether they
    would be the same for another call.

    `Location` and `Content-Location` that name the target are brought to the gateway's address. What a cache had to do
    with it (Cache-Status, RFC 9211; Age, RFC 9111, 5.1) is noted on the call.
    """
    fields = received
    drops = False
    same = True
    for name, value in received:
        if name not in _LOOKED_AT:
            continue
        if name == b"content-length":
            passed.has_length = True
        elif name == b"date":
            passed.dated = True
        elif name == b"connection":
            drops = True
            if value.lower() not in _LIST_NOTHING:
                fields = without_listed(fields)
        elif name == b"cache-status":
            call.cache = HIT if _HIT.search(value) else call.cache or MISS
            same = False
        elif name == b"age":
            call.cache = call.cache or HIT
            same = False
        elif name not in _ADDRESSES:
            drops = True
        elif target is not None:
            same = False
            moved = (name, outward(value, call, target))
            fields = [moved if field == (name, value) else field for field in fields]
    if passed.status == 204 or passed.filter is not None:  # RFC 9110, 8.6; its length will be another
        passed.has_length = False
        fields = [field for field in fields if field[0] != b"content-length"]
    if drops:
        fields = [field for field in fields if field[0] not in NOT_SENT_BACK]
    passed.fields = _written(fields)
    return same


def outward(address: bytes, call: Call, target: Target) -> bytes:
    """An address in an answer as the caller can use it: one of the target's becomes the gateway's.

    Others, and relative ones, stay as they are.
    """
    operation = call.operation
    assert operation is not None
    scheme, separator, rest = address.partition(b"://")
    absolute = bool(separator) and scheme.lower() in (b"http", b"https")
    if absolute:
        place = min((p for p in map(rest.find, (b"/", b"?", b"#")) if p >= 0), default=len(rest))
        if rest[:place].lower() != target.authority.lower():
            return address
        path = rest[place:]
    elif address[:1] == b"/" and address[:2] != b"//":
        path = address
    else:
        return address
    inside = path[len(target.path) :]
    if not path.startswith(target.path) or inside[:1] not in (b"", b"/", b"?", b"#"):
        return address
    moved = operation.base_path.encode() + inside
    if absolute and call.host:
        return b"%b://%b%b" % (call.scheme.encode(), call.host, moved or b"/")
    return moved or b"/"
