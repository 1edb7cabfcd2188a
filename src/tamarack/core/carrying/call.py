"""The call being carried, and the caller it belongs to."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from tamarack.core.carrying.pipeline import CompiledOperation
    from tamarack.core.http.addresses import Networks
    from tamarack.core.http.origins import Origins
    from tamarack.core.limits.store import Limiter, Taken

Header = tuple[bytes, bytes]


class Grant:
    """A subscription in force or paused, as a node holds it: what a caller may call and under which plan."""

    __slots__ = ("extra", "paused", "plan", "quota_key", "since", "stretches", "subscription")

    def __init__(
        self,
        subscription: str,
        plan: str,
        paused: bool,
        since: float = 0.0,
        quota_round: int = 0,
        extra: tuple[int, int] = (0, 0),
    ) -> None:
        self.subscription = subscription
        self.plan = plan
        self.paused = paused
        self.since = since
        """When it was made, in seconds since the epoch."""
        self.extra = extra
        """A stretch of its quota, by its start, and the calls that were granted on top for it."""
        self.quota_key = f"{subscription}.{quota_round}" if quota_round else subscription
        """What its quota counts for; another one after each reset."""
        self.stretches: dict[str, Limiter] = {}
        """Its quotas' limiters for the stretches that are running, by the quota's id."""


class Caller:
    """An application that calls, known by one of its credentials.

    `grants` maps an API's name to the subscription that covers it. `expires_at` is seconds since the
    epoch, 0 for never. `networks` and `sites` are what the credential is restricted to, None for no limit.
    """

    __slots__ = (
        "application",
        "application_id",
        "credential",
        "expires_at",
        "grants",
        "groups",
        "networks",
        "organization",
        "paused",
        "revoked",
        "sites",
    )

    def __init__(
        self,
        *,
        application: str,
        application_id: str,
        organization: str,
        credential: str,
        expires_at: float = 0.0,
        revoked: bool = False,
        paused: bool = False,
        grants: dict[str, Grant] | None = None,
        groups: frozenset[str] = frozenset(),
        networks: Networks | None = None,
        sites: Origins | None = None,
    ) -> None:
        self.groups = groups
        self.networks = networks
        self.sites = sites
        self.application = application
        self.application_id = application_id
        self.organization = organization
        self.credential = credential
        self.expires_at = expires_at
        self.revoked = revoked
        self.paused = paused
        self.grants = grants if grants is not None else {}


class Call:
    """One request on its way through the stages: what came in, and what the stages found.

    `headers` are as received, names in lower case; a step that takes a credential away replaces
    `headers` or `query` and leaves the received list untouched. `now` is seconds since the epoch.
    """

    __slots__ = (
        "address",
        "asked",
        "body_limit",
        "caller",
        "claims",
        "ended_at",
        "fields",
        "form",
        "grant",
        "headers",
        "held_by",
        "held_us",
        "length",
        "method",
        "now",
        "operation",
        "path",
        "query",
        "taken",
        "user",
        "way",
    )

    def __init__(
        self,
        method: str,
        path: bytes,
        query: bytes,
        headers: list[Header],
        address: str,
        now: float,
        operation: CompiledOperation,
        length: int = 0,
        started: int = 0,
    ) -> None:
        self.method = method
        self.path = path
        self.query = query
        self.headers = headers
        self.address = address
        self.now = now
        self.operation = operation
        self.length = length
        """The body's announced length in bytes; -1 where it comes in chunks."""
        self.body_limit = operation.body_limit
        self.caller: Caller | None = None
        self.grant: Grant | None = None
        self.taken: Taken | None = None
        self.asked: list[tuple[Limiter, str]] = []
        """The limiters that counted it, each with the key."""
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
        self.ended_at = [started, 0, 0, 0, 0, 0, 0, 0, 0]
        """When it started, and when each stage of `traffic.record.TIMED` ended, by one clock; 0 where it did not."""
        self.form: bytes | None = None
        """The body of a form post, read ahead only where a way to identify looks into it."""
