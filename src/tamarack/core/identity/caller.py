"""The caller: an application known by one of its credentials, and the subscriptions that it holds."""

from __future__ import annotations

from tamarack.core.http.addresses import Networks
from tamarack.core.http.origins import Origins
from tamarack.core.limits.store import Limiter


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
