"""Opaque tokens that a node knows of: what was found when one was looked up, good or not."""

from __future__ import annotations

from typing import Any, NamedTuple

MOST = 20_000
MISSING_S = 10.0
"""Seconds for which a token that is not there is not looked up again."""


class Found(NamedTuple):
    """What is known of a token until a time, in seconds since the epoch."""

    until: float
    claims: dict[str, Any] | None
    """What it stands for; None where there is no such token."""


class OpaqueTokens:
    """What was found, by token. Bounded: the oldest goes first. That a grant has ended comes by the feed."""

    __slots__ = ("_found",)

    def __init__(self) -> None:
        self._found: dict[bytes, Found] = {}

    def known(self, token: bytes, now: float) -> Found | None:
        """What is known of a token; None where it has to be looked up."""
        found = self._found.get(token)
        return found if found is not None and found.until > now else None

    def put(self, token: bytes, claims: dict[str, Any] | None, now: float) -> None:
        """Keep what was found, until the token is over."""
        self._found.pop(token, None)
        while len(self._found) >= MOST:
            del self._found[next(iter(self._found))]
        self._found[token] = Found(float(claims["exp"]) if claims is not None else now + MISSING_S, claims)
