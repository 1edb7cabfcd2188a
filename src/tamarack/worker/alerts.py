"""Alerts: looked at when a minute has ended, and told."""

import threading
from collections.abc import Callable

from sqlmodel import Session

from tamarack.settings import Settings
from tamarack.store import alerting
from tamarack.store.columns import now
from tamarack.store.engine import make_engine

EVERY_S = 2.0

Log = Callable[[str], None]


def look_all(session: Session, settings: Settings, log: Log) -> None:
    """Look at every alert, and tell what is due."""
    for row in alerting.alerts(session):
        for event in alerting.look(session, row, now()):
            log(f"alert {row.rule['title']}: {event.what}")
    alerting.tell(session, now(), f"{settings.console_url}/traffic/alerts")
    session.commit()


def follow_alerts(settings: Settings, stop: threading.Event, log: Log) -> None:
    """Look at alerts until told to stop. A lost database is tried again."""
    engine = make_engine(settings.database, size=1)
    away = False
    while not stop.is_set():
        try:
            with Session(engine) as session:
                look_all(session, settings, log)
            away = False
        except Exception as error:  # whatever it is, alerts have to be looked at again
            if not away:
                log(f"alerts: {str(error).partition(chr(10))[0]}")
            away = True
        stop.wait(EVERY_S)
    engine.dispose()
