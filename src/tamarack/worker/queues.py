"""What waits for the worker in the database: one question for all of it, since most of the time nothing does."""

import threading
from collections.abc import Callable, Mapping
from typing import Any

from sqlalchemy import Engine, Select, select

from tamarack.settings import Settings
from tamarack.store.applications.changes import changes_due
from tamarack.store.columns import now
from tamarack.store.documents.queries import to_read
from tamarack.store.export import queries as exporting
from tamarack.store.handed_over.queries import unmade
from tamarack.store.joining.queries import asks
from tamarack.store.life_cycle.planned import due_steps
from tamarack.store.mail.telling import due_mail
from tamarack.worker.documents import LEFT

Waiting = Callable[[], Select[Any]]


def queues(settings: Settings) -> dict[str, Waiting]:
    """What waits, by the name of the task that does it. Without a mail server mail waits for nobody."""
    found: dict[str, Waiting] = {
        "documents": lambda: to_read(now() - LEFT),
        "plans that change": changes_due,
        "planned steps of versions": due_steps,
        "what strangers ask for": asks,
        "files to hand over": unmade,
        "export": exporting.due,
    }
    return found | ({"mail": due_mail} if settings.mail_server else {})


class Watch:
    """Asks what waits, and wakes who does it."""

    def __init__(self, engine: Engine, queues: Mapping[str, Waiting]) -> None:
        self._engine, self._queues = engine, queues
        self.wakes = {name: threading.Event() for name in queues}
        """Set while something waits. At the beginning all are: who was stopped may have left something half done."""
        for wake in self.wakes.values():
            wake.set()

    def look(self) -> None:
        """Ask once. Raises while the database is away."""
        asked = select(*(waiting().exists() for waiting in self._queues.values()))
        with self._engine.connect().execution_options(isolation_level="AUTOCOMMIT") as connection:
            found = connection.execute(asked).one()
        for wake, waits in zip(self.wakes.values(), found, strict=True):
            if waits:
                wake.set()
