"""Telling all nodes which kept answers to forget, by the feed."""

import time

from sqlmodel import Session

from tamarack.store.feed.items import publish

SLOTS = 256
"""The newest purges that the feed holds: a node that was away for more of them begins with nothing kept anyway."""


def purge(session: Session, policy: str, prefix: str = "", exact: bool = False) -> None:
    """Forget what a policy (its placement and name) keeps now: all, keys that begin with `prefix`, or that are it."""
    at = time.time()
    body = {"policy": policy, "prefix": prefix, "exact": exact, "at": at}
    publish(session, "purge", str(int(at * 1000) % SLOTS), body)
