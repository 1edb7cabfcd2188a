"""The call being carried: the one object that is filled as a call goes, and that its record is written from."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, Final, Protocol

from tamarack.core.certificates.certificate import Certificate
from tamarack.core.checking.misfit import Misfit
from tamarack.core.http.fields import Header
from tamarack.core.http.heads import HeadFields
from tamarack.core.identity.caller import Caller, Grant
from tamarack.core.limits.store import Limiter, Taken
from tamarack.core.mocking.choosing import Answers


class Published:
    """What a call knows of the operation that it asks for."""

    __slots__ = (
        "api",
        "backend",
        "base",
        "base_path",
        "base_segments",
        "body_limit",
        "ending",
        "errors",
        "limit_fields",
        "mocks",
        "name",
        "named_in_records",
        "parameters",
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
        parameters: dict[str, int] | None = None,
        mocks: Answers | None = None,
        ending: bytes = b"",
        errors: Sequence[Any] = (),
    ) -> None:
        self.errors = errors
        """What may answer refusals and failures another way: `parts.OnError`, each with how a trace names it."""
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
        self.parameters = parameters or {}
        """The path's parameters: names, and which segment each is."""
        self.mocks = mocks
        """The answers that its description documents, where a mock may give them."""
        self.ending = ending
        """The fields of every answer that tell how the version ends; empty for most."""


class Watching(Protocol):
    """What looks at one answer as it passes, and changes nothing."""

    def piece(self, data: bytes) -> None:
        """A piece of the answer's body, cut wherever it was cut on its way."""
        ...

    def end(self, complete: bool) -> None:
        """The answer has ended; not `complete` where it was cut off."""
        ...


_NO_FIELDS: Final[list[Header]] = []


class Call:
    """One request on its way through the stages: what came in, what the stages found, and how it ended.

    `headers` are as received, names in lower case; a step that takes a credential away replaces `headers` or
    `query` and leaves the received list untouched. `now` is seconds since the epoch.
    """

    __slots__ = (
        "address",
        "agent",
        "answer_marks",
        "answered",
        "asked",
        "asked_at",
        "asks_method",
        "asks_path",
        "backend_us",
        "body",
        "cache",
        "caller",
        "certificate",
        "claims",
        "completion_tokens",
        "cost",
        "counted_at",
        "ended_at",
        "expects",
        "fields",
        "grant",
        "graph",
        "head_fields",
        "headers",
        "held_by",
        "held_us",
        "host",
        "id",
        "keep_alive",
        "length",
        "lookup",
        "media",
        "method",
        "misfits",
        "note",
        "note_of_cache",
        "now",
        "old",
        "operation",
        "own",
        "path",
        "policy",
        "prompt",
        "prompt_tokens",
        "query",
        "reason",
        "received_bytes",
        "retried",
        "rollout",
        "scheme",
        "sent_bytes",
        "status",
        "taken",
        "target",
        "ticket",
        "total_us",
        "trace",
        "user",
        "watching",
        "way",
    )

    def __init__(
        self,
        id: bytes,
        now: float,
        started: int,
        address: str,
        scheme: str = "http",
        certificate: Certificate | None = None,
    ) -> None:
        self.id = id
        """The call id, as it stands in header fields."""
        self.now = now
        self.address = address
        """The caller's, or what trusted proxies say of it."""
        self.scheme = scheme
        self.certificate = certificate
        """What the caller showed over TLS and proved to hold the key of; its connection's, never a field's."""
        self.ended_at = [started, 0, 0, 0, 0, 0, 0, 0, 0]
        """When it started, and when each stage of `traffic.record.TIMED` ended, in nanoseconds of one clock; 0 where it
        did not."""
        self.method = ""
        self.path = b""
        self.query = b""
        self.asks_path: bytes | None = None
        """The path that the backend is asked for, where it is another than the call's without its base."""
        self.asks_method = ""
        """The method that it is asked by, where that is another."""
        self.headers: list[Header] = _NO_FIELDS
        self.head_fields: HeadFields | None = None
        """What was read of the fields as received; None where some of them were for this hop alone."""
        self.host = b""
        self.agent = b""
        self.media = b""
        """The value of Content-Type."""
        self.ticket = b""
        """A ticket of the bench."""
        self.length = 0
        """The body's announced length in bytes; -1 where it comes in chunks."""
        self.keep_alive = True
        self.old = False
        """Whether the caller speaks HTTP/1.0, which knows no chunks."""
        self.expects = False
        """Whether the caller waits to be told to send its body (RFC 9110, 10.1.1)."""
        self.answer_marks: tuple[object, ...] = ()
        """Left by steps of Shape for those of Return, which change the answer of this call."""
        self.operation: Published | None = None
        self.rollout = 0
        self.body: bytes | None = None
        """The request's body, whole, where a part asked for it."""
        self.caller: Caller | None = None
        self.grant: Grant | None = None
        self.taken: Taken | None = None
        self.asked: Sequence[tuple[Limiter, str, int]] = ()
        """The limiters that were asked, each with the key and the cost it counts."""
        self.cost = 0
        """How many calls it counted as, by its answer; 0 where the answer does not say."""
        self.counted_at = now
        """When limits counted it: when it came, or when its turn had come."""
        self.held_us = 0
        """How long it waited for its turn under a limit."""
        self.held_by = ""
        """The name of that limit."""
        self.claims: dict[str, Any] | None = None
        """The claims of the token that the caller showed, verified."""
        self.user = ""
        """The end user that the token names, where it names one."""
        self.way = ""
        """The name of the policy that identified the caller."""
        self.fields = b""
        """Header fields, ready to send, that a step wants on the answer, whatever it will be."""
        self.trace: Any = None
        """A `core.told.trace.Trace`, where the call is traced."""
        self.watching: Sequence[Watching] = ()
        self.retried = 0
        """How many attempts were made after the first."""
        self.target = ""
        """The address of the target that was asked."""
        self.asked_at = 0
        self.backend_us = 0
        self.answered = False
        """Whether the backend's answer began."""
        self.status = 0
        """What the caller was answered."""
        self.reason = ""
        """The code of the reason that it was refused for, or failed."""
        self.policy = ""
        """The policy that refused it."""
        self.note = ""
        """What staff are told of the refusal."""
        self.received_bytes = 0
        self.sent_bytes = 0
        self.cache = ""
        """What a cache had to do with the answer; see `core.traffic.record`."""
        self.lookup: Any = None
        """Its business with the response cache: a `core.carrying.caching.Lookup`."""
        self.note_of_cache = ""
        """What staff are told of that."""
        self.misfits: Sequence[Misfit] = ()
        """What of it, or of its answer, its description does not know."""
        self.own: tuple[str, ...] = ()
        """What a policy says to record besides: `traffic.record.MOST_OWN` texts."""
        self.prompt: Any = None
        """What it asks of a language model: a `core.language_models.prompt.Prompt`, where it is read as such."""
        self.graph: Any = None
        """What it asks of a GraphQL API: a `core.graphql.asked.GraphAsked`, once it is read."""
        self.prompt_tokens = 0
        self.completion_tokens = 0
        self.total_us = 0

    def own_fields(self) -> bytes:
        """The fields that the gateway adds to an answer: the call id, what is left of the tightest limit, and those
        that steps asked for."""
        operation = self.operation
        if operation is None:
            return b"tamarack-call-id: %b\r\n%b" % (self.id, self.fields)
        limits = operation.limit_fields(self.taken) if self.taken is not None else b""
        return b"tamarack-call-id: %b\r\n%b%b%b" % (self.id, limits, operation.ending, self.fields)
