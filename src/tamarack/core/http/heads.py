"""Heads of requests and answers, read once (RFC 9110, sections 7 and 10; RFC 9112, sections 2 to 6).

Most callers say the same with every request of a connection, and many answers of a target have the same head. What was
read of them is kept with the connection, or with the target, and taken again where the bytes are the same.
"""

from __future__ import annotations

import re
from typing import Final

from tamarack.core.http.fields import Header, listed

_LISTS_NOTHING: Final = frozenset((b"keep-alive", b"close"))
_OF_ONE_REQUEST: Final = frozenset((b"content-length", b"transfer-encoding", b"expect", b"upgrade"))
_HOST: Final = re.compile(
    rb"(?:\[[0-9A-Fa-f:.]{2,45}\]|\[[vV][0-9A-Fa-f]+\.[!$&-.0-;=A-Z_a-z~]+\]"
    rb"|(?:[!$&-+\-.0-9;=A-Z_a-z~]|%[0-9A-Fa-f]{2}){1,255})(?::[0-9]{0,5})?\Z"
)
"""`uri-host [":" port]` (RFC 9110, 7.2; RFC 3986, 3.2.2): not empty, for http's authority never is, and without commas,
for what is passed on in `X-Forwarded-Host` is read as a list."""

_HOSTS: Final[set[bytes]] = set()
_MOST_HOSTS: Final = 4096


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


class HeadFields:
    """A request's fields as received, names in lower case, and what they say. Nobody changes them: calls share them."""

    __slots__ = (
        "_without",
        "agent",
        "by_name",
        "closes",
        "coding",
        "digest",
        "expects",
        "headers",
        "host",
        "host_is_one",
        "hosts",
        "length",
        "lists",
        "media",
        "sent",
        "sent_of",
        "ticket",
    )

    def __init__(self, headers: list[Header]) -> None:
        self.headers = headers
        named = dict(headers)
        once = len(named) == len(headers)
        self.by_name: dict[bytes, bytes] | None = named if once else None
        """The fields by name; None where a name came more than once."""
        self.host = named.get(b"host", b"")
        self.hosts = (1 if b"host" in named else 0) if once else sum(name == b"host" for name, _ in headers)
        """How many Host fields there are."""
        self.host_is_one = self.hosts > 0 and is_host(self.host)
        """Whether Host is one by its grammar."""
        self.agent = named.get(b"user-agent", b"")
        self.media = named.get(b"content-type", b"")
        self.ticket = named.get(b"tamarack-bench", b"")
        self.length = 0
        """The announced length of the body; -1 where it comes in chunks."""
        if b"content-length" in named:
            self.length = int(named[b"content-length"])  # a second one, and one beside chunks, the parser refuses
        self.coding: bytes | None = None
        """How the body is coded for its transfer, codings by commas; None where it is not."""
        if b"transfer-encoding" in named:
            codings = [value.strip().lower() for name, value in headers if name == b"transfer-encoding"]
            self.coding = b",".join(codings)
            self.length = -1
        self.closes = self.lists = False
        """Whether Connection ends the connection, and whether it lists fields of this hop."""
        if b"connection" in named:
            tokens = listed(headers, b"connection")
            self.closes = b"close" in tokens
            self.lists = not tokens <= _LISTS_NOTHING
        self.expects = named[b"expect"].strip().lower() == b"100-continue" if b"expect" in named else False
        self._without: tuple[Header, list[Header]] | None = None
        self.digest: tuple[object, bytes, bytes] | None = None
        """The keyed hash of a credential among them: who made it, of what, and the hash."""
        self.sent_of: list[Header] | None = None
        """The fields of which `sent` was made last."""
        self.sent = b""
        """How they go on to a target, as lines."""

    @property
    def may_come_again(self) -> bool:
        """Whether another request with the same fields can take what was read of these: nothing in them is about the
        body, or about this one request."""
        by_name = self.by_name
        return by_name is not None and not self.lists and not self.closes and by_name.keys().isdisjoint(_OF_ONE_REQUEST)

    def without(self, field: Header) -> list[Header]:
        """The fields without one of them, made once for calls that show the same one."""
        known = self._without
        if known is None or known[0] != field:
            place = self.headers.index(field)
            known = self._without = (field, self.headers[:place] + self.headers[place + 1 :])
        return known[1]


class AnswerHead:
    """A head of an answer as it was read. Answers with the very same head share one, and what is made of it."""

    __slots__ = ("dated", "has_length", "headers", "passes", "status")

    def __init__(self, status: int, headers: list[Header]) -> None:
        self.status = status
        self.headers = headers
        """Names in lower case. Nobody changes the list: who changes an answer gives it another."""
        self.passes: bytes | None = None
        """Its fields as they go on to callers, once that is known and the same for all of them."""
        self.has_length = False
        self.dated = False


class Answered:
    """A backend's answer whose head has arrived. `body` is all of it where it is here already, else None.

    Changes of the stage Return set `status`, `headers` and `body` anew.
    """

    __slots__ = ("body", "head", "headers", "status")

    def __init__(self, status: int, headers: list[Header], body: bytes | None, head: AnswerHead | None = None) -> None:
        self.status = status
        self.headers = headers
        self.body = body
        self.head = head
        """The head that it shares with others, where it does."""
