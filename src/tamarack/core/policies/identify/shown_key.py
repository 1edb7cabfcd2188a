"""Reading an API key off a call: on the way of every call that shows one."""

from __future__ import annotations

from collections.abc import Callable
from typing import Final
from urllib.parse import unquote_to_bytes

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.refusals import Refusal
from tamarack.core.http.heads import HeadFields
from tamarack.core.http.query import name_of, without_query
from tamarack.core.identity.caller import Caller
from tamarack.core.identity.directory import Finder
from tamarack.core.policies.identify.places import in_header, take_header

MOST_BYTES: Final = 512
"""A key longer than this is not looked up."""


def by_shown_key(
    header: bytes, query_name: bytes, find: Finder, doubled: Refusal, unknown: Refusal
) -> Callable[[Call], Caller | Refusal | None]:
    """What finds the caller by the key in a header field or a query parameter, either of which may be empty, and takes
    it off the call. None where no key is shown."""

    def identify(call: Call) -> Caller | Refusal | None:
        shown = b""
        seen = 0
        known: HeadFields | None = None
        if header:
            head = call.head_fields
            if head is not None and head.by_name is not None and call.headers is head.headers:
                value = head.by_name.get(header)
                if value is not None:
                    known = head
                    shown, seen = value, 1
                    call.headers = head.without((header, value))
            else:
                found = in_header(call, header)
                seen = len(found)
                if seen:
                    shown = found[-1]
                    take_header(call, header)
        if query_name and call.query:
            for part in call.query.split(b"&"):
                if name_of(part) == query_name:
                    seen += 1
                    raw = part.partition(b"=")[2]
                    shown = unquote_to_bytes(raw.replace(b"+", b" "))
            if seen:
                call.query = without_query(call.query, query_name)
        if seen > 1:
            return doubled
        if not shown:
            return None
        if len(shown) > MOST_BYTES:
            return unknown
        caller = find(shown) if known is None else find.owner(_digest(known, find, shown))
        return caller if caller is not None else unknown

    return identify


def _digest(head: HeadFields, find: Finder, shown: bytes) -> bytes:
    """The keyed hash of a key in a head, made once for requests with the same fields."""
    made = head.digest
    if made is not None and made[0] is find and made[1] == shown:
        return made[2]
    digest = find.digest(shown)
    head.digest = (find, shown, digest)
    return digest
