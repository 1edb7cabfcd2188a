"""Waking those who wait for news: one thread listens to the database for all of them."""

import threading

import psycopg

from tamarack.store.nodes.statements import CHANNEL

MOST_WAITING = 200
"""Looks that wait at a time; further ones are answered at once, and come again."""
_AGAIN_AFTER_S = 0.5
_LOOK_EVERY_S = 1.0
"""How soon it sees that it is to end."""


class Waker:
    """Counts notices, so that a look can tell whether one came since it last read. Listens from the first look on."""

    def __init__(self, database: str) -> None:
        self._database = database
        self._changed = threading.Condition()
        self._count = 0
        self._waiting = 0
        self._thread: threading.Thread | None = None
        self._closed = threading.Event()

    @property
    def count(self) -> int:
        """How many notices came so far. Begins to listen."""
        with self._changed:
            if self._thread is None:
                self._thread = threading.Thread(target=self._listen, name="waker", daemon=True)
                self._thread.start()
            return self._count

    def wait(self, since: int, seconds: float) -> None:
        """Wait for a notice after the one counted `since`; not at all where too many wait."""
        with self._changed:
            if self._waiting >= MOST_WAITING:
                return
            self._waiting += 1
            try:
                self._changed.wait_for(lambda: self._count != since, seconds)
            finally:
                self._waiting -= 1

    def close(self) -> None:
        """Listen no more; returns once the thread has ended."""
        self._closed.set()
        self._wake()
        if self._thread is not None:
            self._thread.join(10)

    def _wake(self) -> None:
        with self._changed:
            self._count += 1
            self._changed.notify_all()

    def _listen(self) -> None:
        while not self._closed.is_set():
            try:
                with psycopg.connect(self._database, autocommit=True, connect_timeout=3) as connection:
                    connection.execute(f"LISTEN {CHANNEL}")
                    self._wake()  # what came before is not known
                    while not self._closed.is_set():
                        for _ in connection.notifies(timeout=_LOOK_EVERY_S):
                            self._wake()
            except psycopg.Error:
                self._wake()
            self._closed.wait(_AGAIN_AFTER_S)
