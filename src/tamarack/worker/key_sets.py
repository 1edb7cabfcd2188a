"""What the feed needs in time: key sets of outside issuers fetched, overlaps of secrets and watches ended.

Key sets are fetched every few minutes, and at once where a node asks for one.

Nodes never ask an outside address themselves; they get the keys by the feed.
"""

import time
from collections.abc import Callable
from datetime import timedelta
from typing import Any

import psycopg
from sqlalchemy import Engine
from sqlmodel import Session

from tamarack.core.documents import json_text
from tamarack.core.text import cleaned
from tamarack.settings import Settings
from tamarack.store.columns import now
from tamarack.store.keys import key_sets
from tamarack.store.keys.key_set_table import KeySet
from tamarack.store.secrets import queries as secrets
from tamarack.store.traffic import traces as tracing
from tamarack.web.outgoing.asking import NotReached, fetch_text

REFRESH = timedelta(minutes=5)
AGAIN_AFTER_FAILURE = timedelta(seconds=30)
NOT_BEFORE = timedelta(seconds=2)
"""A set is not fetched again so soon, however often it is asked for."""
TIMEOUT_S = 3.0
MOST_CHARACTERS = 500_000
"""Of a key set; every node keeps it."""
EVERY_S = 1.0
"""How often what is due is looked for, where nobody asks."""

Log = Callable[[str], None]


def fetch(engine: Engine, settings: Settings, url: str, log: Log) -> None:
    """Fetch one key set and keep it. What goes wrong is kept beside it, and what was fetched before stays."""
    jwks: dict[str, Any] | None = None
    problem = ""
    try:
        text = fetch_text(url, settings.reach, TIMEOUT_S)
        if len(text) > MOST_CHARACTERS:
            raise ValueError(f"it has {len(text):,} characters; at most {MOST_CHARACTERS:,} are taken")
        jwks = cleaned(json_text.read(text)[0])
    except NotReached as error:
        problem = str(error)
    except ValueError as error:
        problem = f"{url} is not a key set: {error}"
    with Session(engine) as session:
        key_sets.take_up(session, url, jwks, problem)
        session.commit()
    if problem:
        log(f"the key set {url} was not fetched: {problem}")


def _due(one: KeySet) -> bool:
    if one.tried_at is None:
        return True
    return now() - one.tried_at > (AGAIN_AFTER_FAILURE if one.problem else REFRESH)


def _asked_for(one: KeySet, asked: set[str]) -> bool:
    return one.url in asked and (one.tried_at is None or now() - one.tried_at > NOT_BEFORE)


class KeySetFollower:
    """Keeps every key set fresh, and ends what has an end. It hears of sets that nodes ask for."""

    def __init__(self, engine: Engine, settings: Settings, log: Log) -> None:
        self._engine = engine
        self._settings = settings
        self._log = log
        self._connection: psycopg.Connection | None = None
        self._asked: set[str] = set()
        self._look_at = 0.0
        """When to look again for what is due, by the clock that only goes on."""

    def look(self) -> None:
        """Fetch what is due, and wait a moment for what is asked for. Raises while the database is away."""
        try:
            if self._connection is None:
                self._connection = psycopg.connect(self._settings.database, autocommit=True, connect_timeout=3)
                self._connection.execute(f"LISTEN {key_sets.CHANNEL}")
            if self._asked or time.monotonic() >= self._look_at:
                self._do_what_is_due()
                self._look_at = time.monotonic() + EVERY_S
            self._asked = {notice.payload for notice in self._connection.notifies(timeout=0.5, stop_after=1)}
        except Exception:
            self.close()
            raise

    def _do_what_is_due(self) -> None:
        with Session(self._engine) as session:
            known = key_sets.key_sets(session)
        for url in [one.url for one in known if _due(one) or _asked_for(one, self._asked)]:
            fetch(self._engine, self._settings, url, self._log)
        with Session(self._engine) as session:
            if tracing.drop_ended(session) + secrets.drop_old_values(session):
                session.commit()

    def close(self) -> None:
        """Let go of the connection; the next look makes another."""
        if self._connection is not None:
            self._connection.close()
            self._connection = None
