"""What a node asks of the control side, wherever that is."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, Protocol

from tamarack.core.nodes.feed import News, Report


class FeedAway(OSError):
    """The control side does not answer. What the node has goes on serving, and it asks again."""


class FeedEnded(Exception):
    """The control side knows this node no more: it was revoked. The message says what it said."""


class Feed(Protocol):
    """One node's way to the control side. Every method raises `FeedAway` where nobody answers, and `FeedEnded` where
    the node was revoked."""

    called: str
    """What the other side is, for the log."""
    look_within_s: float
    """How long one look may wait for news."""

    async def begin(self) -> None:
        """Make the connection anew."""

    async def look(self, after: int, above: int, standing: str, wait_s: float) -> News:
        """What is new: items after a sequence number, a rollout above a number, another standing than this one. Waits
        for that up to `wait_s`, or `look_within_s` if that is less; then says that there is nothing.

        The rollout comes with the last of the items, so that no node carries calls of callers it has yet to hear of.
        """

    async def report(self, report: Report) -> float:
        """Tell how the node stands, and what changed with targets; returns the control side's time (seconds)."""

    async def ask_for_key_set(self, url: str) -> None:
        """Have a key set fetched anew; it comes as an item of the feed."""

    async def find_tokens(self, tokens: Sequence[bytes]) -> Mapping[bytes, dict[str, Any]]:
        """What each of some opaque tokens stands for; those that are not good are left out."""

    async def close(self) -> None:
        """Let go of all connections."""
