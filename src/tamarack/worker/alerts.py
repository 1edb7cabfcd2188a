"""Alerts: looked at when a minute has ended, and told."""

from collections.abc import Callable

from sqlalchemy import Engine
from sqlmodel import Session

from tamarack.settings import Settings
from tamarack.store.alerts import queries as alerting
from tamarack.store.alerts.tables import AlertRow
from tamarack.store.columns import now

Log = Callable[[str], None]


def look_all(engine: Engine, settings: Settings, log: Log) -> None:
    """Look at every alert, and tell what is due. One that cannot be looked at stops no other."""
    failed: Exception | None = None
    with Session(engine) as session:
        for name in [row.id for row in alerting.alerts(session)]:
            try:
                with session.begin_nested():
                    row = session.get(AlertRow, name)
                    for event in alerting.look(session, row, now()) if row is not None else ():
                        log(f"alert {row.rule['title'] if row is not None else name}: {event.what}")
            except Exception as error:  # told when the others were looked at
                failed = error
        alerting.tell(session, now(), f"{settings.console_url}/traffic/alerts")
        session.commit()
    if failed is not None:
        raise failed
