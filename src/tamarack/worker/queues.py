"""What waits for the worker in the database: one question for all of it, since most of the time nothing does."""

import threading
from collections.abc import Callable, Mapping
from datetime import datetime
from typing import Any

from sqlalchemy import Engine, Select, select

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


QUEUES: Mapping[str, Waiting] = {
    "documents": lambda: to_read(now() - LEFT),
    "plans that change": changes_due,
    "planned steps of versions": due_steps,
    "what strangers ask for": asks,
    "mail": due_mail,
    "files to hand over": unmade,
    "export": exporting.due,
}
"""What waits, by the name of the task that does it."""


class Watch:
    """Asks what waits, and wakes who does it."""

    def __init__(self, engine: Engine, queues: Mapping[str, Waiting]) -> None:
        self._engine = engine.execution_options(isolation_level="AUTOCOMMIT")
        self.wakes = {name: threading.Event() for name in queues}
        """Set while something waits. At the beginning all are: who was stopped may have left something half done."""
        for wake in self.wakes.values():
            wake.set()
        asked = select(*(waiting().exists() for waiting in queues.values()))
        self._made_at = now()
        # Written once: it is asked several times a second, and writing it takes longer than its answer.
        written = asked.compile(engine, compile_kwargs={"render_postcompile": True})
        self._question, self._values = str(written), written.params

    def look(self) -> None:
        """Ask once. Raises while the database is away."""
        later = now() - self._made_at
        values = {
            name: value + later if isinstance(value, datetime) else value for name, value in self._values.items()
        }  # its moments are those of its making, and go on with the clock
        with self._engine.connect() as connection:
            found = connection.exec_driver_sql(self._question, values).one()
        for wake, waits in zip(self.wakes.values(), found, strict=True):
            if waits:
                wake.set()
