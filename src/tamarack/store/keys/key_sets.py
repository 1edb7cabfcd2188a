"""Key sets: which are used, and taking up what was fetched."""

from collections.abc import Iterable
from typing import Any

from sqlalchemy import text
from sqlmodel import Session, select

from tamarack.core.identity.jose import keys_of_set
from tamarack.store.columns import now
from tamarack.store.feed import items as feeding
from tamarack.store.keys.key_set_table import KeySet

CHANNEL = "tamarack_key_sets"
"""Where it is told that a key set has to be fetched."""


def key_sets(session: Session) -> list[KeySet]:
    """Every key set that any rollout used, by address."""
    return list(session.exec(select(KeySet).order_by(KeySet.url)))


def note_used(session: Session, urls: Iterable[str]) -> None:
    """Remember key sets that a rollout uses, and have them fetched now."""
    for url in sorted(urls):
        if session.get(KeySet, url) is None:
            session.add(KeySet(url=url))
            session.flush()
        ask(session, url)


def ask(session: Session, url: str) -> None:
    """Have a key set fetched, when this transaction ends."""
    session.connection().execute(text("SELECT pg_notify(:channel, :url)"), {"channel": CHANNEL, "url": url})


def take_up(session: Session, url: str, jwks: Any, problem: str) -> None:
    """Keep what was fetched and tell the nodes; a problem leaves what was fetched before."""
    found = session.get(KeySet, url)
    if found is None:
        return
    found.tried_at = now()
    if not problem:
        try:
            if not keys_of_set(jwks):
                problem = "holds no key that can verify signatures (RSA, EC or Ed25519)"
        except ValueError as error:
            problem = str(error)
    found.problem = problem[:300]
    if not problem:
        found.jwks = jwks
        found.fetched_at = found.tried_at
        body = {"jwks": jwks, "fetched_at": found.fetched_at.timestamp()}
        feeding.publish(session, "key-set", url, body)
    session.add(found)
    session.flush()
