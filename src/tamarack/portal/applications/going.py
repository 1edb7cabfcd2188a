"""Where people are in walk-throughs: in this process's memory for an hour, never in a cookie, a table or a log."""

from __future__ import annotations

import secrets
import time
from collections import OrderedDict
from dataclasses import dataclass, field
from threading import Lock

from tamarack.core.trying.bench import BenchAnswer
from tamarack.portal.page import reader
from tamarack.store.sign_in.tables import SignInClient

LIVES_S = 3600.0
MOST_KEPT = 500


@dataclass(slots=True)
class Going:
    """Where one person is in the walk-through of one client."""

    at: float
    verifier: str
    state: str
    nonce: str
    chosen: str = ""
    scope: str | None = None
    values: dict[str, str] = field(default_factory=dict)
    came: dict[str, BenchAnswer] = field(default_factory=dict)
    back: dict[str, str] = field(default_factory=dict)
    """What the browser came back with."""


GOING: OrderedDict[tuple[str, str], Going] = OrderedDict()
_LOCK = Lock()


def going_of(client: SignInClient, anew: bool = False) -> Going:
    """Where the reader is; at the beginning after an hour."""
    key = (reader().id, client.id)
    with _LOCK:
        found = GOING.get(key)
        if found is None or anew or found.at < time.monotonic() - LIVES_S:
            chosen = found.chosen if found is not None else ""
            scope = found.scope if found is not None else None
            found = GOING[key] = Going(time.monotonic(), secrets.token_urlsafe(48), secrets.token_urlsafe(16),
                                         secrets.token_urlsafe(16), chosen, scope)  # fmt: skip
        GOING.move_to_end(key)
        while len(GOING) > MOST_KEPT:
            GOING.popitem(last=False)
    return found
