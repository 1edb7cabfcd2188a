"""Asking again: which calls may be sent a second time, after what, and how many of all (RFC 9110, section 9.2.2)."""

from __future__ import annotations

from typing import NamedTuple

from tamarack.core.balancing.route import Route
from tamarack.core.carrying.call import Call
from tamarack.core.carrying.needs import Ask

REPEATABLE = frozenset(("GET", "HEAD", "OPTIONS", "PUT", "DELETE", "TRACE"))
"""Idempotent methods."""
_KEY = b"idempotency-key"
MOST_CREDIT = 2_000
"""What a quiet time saves up."""


class RetryRules(NamedTuple):
    """When a call is asked again."""

    at_most: int
    """Further attempts after the first."""
    statuses: frozenset[int]
    """Answers after which it is asked again, as if there had been none."""
    share: int
    """Retries in a hundred calls; a node's own, for each backend."""


def repeatable(call: Call) -> bool:
    """Whether a call means the same when it is sent twice: by its method, or since it has a key for that."""
    return call.method in REPEATABLE or any(name == _KEY for name, _ in call.headers)


def earned(route: Route, rules: RetryRules) -> None:
    """A call came: it adds its share to what retries may take."""
    route.credit = min(MOST_CREDIT, route.credit + rules.share)


def may_ask_again(call: Call, route: Route, rules: RetryRules, ask: Ask, attempt: int) -> bool:
    """Whether a call whose attempt failed is asked again, and takes of what retries may take.

    Never one whose body has been streamed: it is not here any more.
    """
    if attempt > rules.at_most or ask.streamed or (ask.body is None and call.length != 0) or not repeatable(call):
        return False
    if route.credit < 100:
        return False
    route.credit -= 100
    return True
