"""What is done every second or so, besides shipping records: use of quotas, plans that change, mail."""

import threading
import time
from collections.abc import Callable
from datetime import timedelta
from pathlib import Path

import orjson
from sqlalchemy import Engine
from sqlmodel import Session

from tamarack.settings import Settings
from tamarack.store import catalogue, joining, quotas, subscribing
from tamarack.store.columns import now
from tamarack.store.engine import make_engine
from tamarack.worker.mail import send_mail
from tamarack.worker.ship import set_aside

EVERY_S = 0.5
HOUSE_EVERY_S = 60.0

Log = Callable[[str], None]


def ship_use(engine: Engine, path: Path, log: Log) -> None:
    """Take in one batch of use and remove its file."""
    try:
        rows = [tuple(row) for row in orjson.loads(path.read_bytes())]
        if any(len(row) != 7 for row in rows):
            raise ValueError("a row of use has seven fields")
    except (ValueError, TypeError) as error:
        set_aside(path, error, log)
        return
    with Session(engine) as session:
        quotas.take_in_use(session, path.stem, path.parent.parent.name, rows)
        session.commit()
    path.unlink()


def do_jobs(settings: Settings, stop: threading.Event, log: Log) -> None:
    """Do them until told to stop. A lost database is tried again; what waits waits."""
    engine = make_engine(settings.database, size=1)
    away, house_at = False, 0.0
    while not stop.is_set():
        try:
            for path in sorted((settings.home / "nodes").glob("*/spool/*.quotas"), key=lambda path: path.name):
                ship_use(engine, path, log)
            with Session(engine) as session:
                for line in subscribing.change_plans_due(session):
                    log(line)
                session.commit()
            with Session(engine) as session:
                send_mail(session, settings, log)
                session.commit()
            if time.monotonic() > house_at:
                with Session(engine) as session:
                    joining.drop_stale(session, now() - timedelta(days=7))
                    catalogue.index_if_missing(session)
                    session.commit()
                house_at = time.monotonic() + HOUSE_EVERY_S
            away = False
        except Exception as error:  # whatever it is, the jobs have to be tried again
            if not away:
                log(f"jobs: {str(error).partition(chr(10))[0]}")
            away = True
        stop.wait(EVERY_S)
    engine.dispose()
