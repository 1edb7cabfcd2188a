"""Values shown once: a new key on its way from the form that made it to the page that shows it.

It is held in this process's memory only, never in a cookie, a table or a log; the portal runs as one process.
"""

import secrets
import threading
import time
from collections import OrderedDict
from typing import Any

LIVES_S = 300.0
MOST = 1_000


class Once:
    """Hands each value over, once where it is taken, within five minutes."""

    def __init__(self) -> None:
        self._values: OrderedDict[str, tuple[float, Any]] = OrderedDict()
        self._lock = threading.Lock()

    def put(self, value: Any) -> str:
        """Hold a value; returns the ticket for it."""
        ticket = secrets.token_urlsafe(16)
        with self._lock:
            self._values[ticket] = (time.monotonic() + LIVES_S, value)
            while len(self._values) > MOST:
                self._values.popitem(last=False)
        return ticket

    def peek(self, ticket: str) -> Any:
        """The value of a ticket in time, left where it is; else None."""
        with self._lock:
            until, value = self._values.get(ticket, (0.0, None))
        return value if time.monotonic() < until else None

    def take(self, ticket: str) -> Any:
        """The value of a ticket, the first time and in time; else None."""
        with self._lock:
            until, value = self._values.pop(ticket, (0.0, None))
        return value if time.monotonic() < until else None


NEW_KEYS = Once()
