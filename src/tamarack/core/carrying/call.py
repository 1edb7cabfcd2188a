"""The call being carried: the one object that is filled as a call goes, and that its record is written from."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, Protocol

from tamarack.core.http.fields import Header
from tamarack.core.identity.caller import Caller, Grant
from tamarack.core.limits.store import Limiter, Taken


class Published:
    """What a call knows of the operation that it asks for."""

    __slots__ = (
        "api",
        "backend",
        "base",
        "base_path",
        "base_segments",
        "body_limit",
        "limit_fields",
        "name",
        "named_in_records",
        "secret",
        "version",
    )

    def __init__(
        self,
        api: str,
        version: str,
        name: str,
        backend: str,
        base_path: str,
        body_limit: int,
        secret: frozenset[str],
        limit_fields: Callable[[Taken], bytes],
    ) -> None:
        self.api = api
        self.version = version
        self.name = name
        self.named_in_records = (api, version, name)
        self.backend = backend
        self.base_path = base_path
        """What comes off a call's path before the rest is put behind the target's own."""
        self.base = base_path.encode()
        self.base_segments = base_path.count("/")
        """How many segments that is; it comes off by segments, for each may be written in more than one way."""
        self.body_limit = body_limit
        """The most bytes that a request's body may have."""
        self.secret = secret
        """Names of fields and parameters that carry credentials here."""
        self.limit_fields = limit_fields
        """Writes the fields that tell what is left."""


class Watching(Protocol):
    """What looks at one answer as it passes, and changes nothing."""

    def piece(self, data: bytes) -> None:
        """A piece of the answer's body, cut wherever it was cut on its way."""
        ...

    def end(self, complete: bool) -> None:
        """The answer has ended; not `complete` where it was cut off."""
        ...


class Call:
    """One request on its way through the stages: what came in, what the stages found, and how it ended.

    `headers` are as received, names in lower case; a step that takes a credential away replaces `headers` or
    `query` and leaves the received list untouched. `now` is seconds since the epoch. What a call does not set is the
    class's: few calls set more than a dozen of these.
    """

    method = ""
    path = b""
    query = b""
    headers: list[Header] = []
    fields_by_name: dict[bytes, bytes] | None = None
    """The fields as received, by name; None where a name came more than once."""
    host = b""
    agent = b""
    media = b""
    """The value of Content-Type."""
    ticket = b""
    """A ticket of the bench."""
    length = 0
    """The body's announced length in bytes; -1 where it comes in chunks."""
    keep_alive = True
    old = False
    """Whether the caller speaks HTTP/1.0, which knows no chunks."""
    expects = False
    """Whether the caller waits to be told to send its body (RFC 9110, 10.1.1)."""
    operation: Published | None = None
    rollout = 0
    body: bytes | None = None
    """The request's body, whole, where a part asked for it."""
    caller: Caller | None = None
    grant: Grant | None = None
    taken: Taken | None = None
    asked: Sequence[tuple[Limiter, str, int]] = ()
    """The limiters that were asked, each with the key and the cost it counts."""
    cost = 0
    """How many calls it counted as, by its answer; 0 where the answer does not say."""
    held_us = 0
    """How long it waited for its turn under a limit."""
    held_by = ""
    """The name of that limit."""
    claims: dict[str, Any] | None = None
    """The claims of the token that the caller showed, verified."""
    user = ""
    """The end user that the token names, where it names one."""
    way = ""
    """The name of the policy that identified the caller."""
    fields = b""
    """Header fields, ready to send, that a step wants on the answer, whatever it will be."""
    trace: Any = None
    """A `core.carrying.trace.Trace`, where the call is traced."""
    watching: Sequence[Watching] = ()
    target = ""
    """The address of the target that was asked."""
    asked_at = 0
    backend_us = 0
    answered = False
    """Whether the backend's answer began."""
    status = 0
    """What the caller was answered."""
    reason = ""
    """The code of the reason that it was refused for, or failed."""
    policy = ""
    """The policy that refused it."""
    note = ""
    """What staff are told of the refusal."""
    received_bytes = 0
    sent_bytes = 0
    cache = ""
    prompt_tokens = 0
    completion_tokens = 0
    total_us = 0

    def __init__(self, id: bytes, now: float, started: int, address: str, scheme: str = "http") -> None:
        self.id = id
        """The call id, as it stands in header fields."""
        self.now = now
        self.address = address
        """The caller's, or what trusted proxies say of it."""
        self.scheme = scheme
        self.ended_at = [started, 0, 0, 0, 0, 0, 0, 0, 0]
        """When it started, and when each stage of `traffic.record.TIMED` ended, in nanoseconds of one clock; 0 where it
        did not."""

    def own_fields(self) -> bytes:
        """The fields that the gateway adds to an answer: the call id, what is left of the tightest limit, and those
        that steps asked for."""
        taken = self.taken
        if taken is None or self.operation is None:
            return b"tamarack-call-id: %b\r\n%b" % (self.id, self.fields)
        return b"tamarack-call-id: %b\r\n%b%b" % (self.id, self.operation.limit_fields(taken), self.fields)
