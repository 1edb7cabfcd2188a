"""The call being carried, and the caller it belongs to."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from tamarack.core.limits.store import Taken
    from tamarack.core.pipeline import CompiledOperation

Header = tuple[bytes, bytes]


class Grant:
    """A subscription in force or paused, as a node holds it: what a caller may call and under which plan."""

    __slots__ = ("paused", "plan", "subscription")

    def __init__(self, subscription: str, plan: str, paused: bool) -> None:
        self.subscription = subscription
        self.plan = plan
        self.paused = paused


class Caller:
    """An application that calls, known by one of its credentials.

    `grants` maps an API's name to the subscription that covers it. `expires_at` is seconds since the
    epoch, 0 for never.
    """

    __slots__ = (
        "application",
        "application_id",
        "credential",
        "expires_at",
        "grants",
        "organization",
        "paused",
        "revoked",
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
    ) -> None:
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
        "body_limit",
        "caller",
        "grant",
        "headers",
        "length",
        "method",
        "now",
        "operation",
        "path",
        "query",
        "taken",
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
