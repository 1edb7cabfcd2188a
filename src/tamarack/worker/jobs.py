"""What is done every second or so, besides shipping records: what nodes counted, plans that change, mail."""

from collections.abc import Callable, Mapping
from datetime import timedelta
from pathlib import Path
from typing import Any

import orjson
from sqlalchemy import Engine
from sqlalchemy.exc import DataError, IntegrityError
from sqlmodel import Session

from tamarack.settings import Settings
from tamarack.store.applications import changes as subscribing
from tamarack.store.columns import now
from tamarack.store.documents import queries as documents
from tamarack.store.graph_use import queries as graph_use
from tamarack.store.joining import queries as joining
from tamarack.store.joining.tables import JoinAsk
from tamarack.store.misfits import queries as misfits
from tamarack.store.people import attempts, sessions
from tamarack.store.portal import search as catalogue
from tamarack.store.quotas import queries as quotas
from tamarack.store.sign_in import grants as granting
from tamarack.store.sign_in import log as sign_in_log
from tamarack.worker.ship import Note, set_aside, unnoted

Log = Callable[[str], None]


TakeIn = Callable[[Session, str, str, list[Any]], bool]
"""Takes in a batch: its name, its node, and its rows."""
COUNTED: Mapping[str, tuple[int, TakeIn]] = {
    "quotas": (7, quotas.take_in_use),
    "misfits": (13, misfits.take_in_misfits),
    "fields": (8, graph_use.take_in_field_use),
}
"""What nodes count between two batches: by the ending of its files, the fields of a row, and who takes it in."""


def ship_counts(engine: Engine, path: Path, log: Log, note: Note = unnoted) -> None:
    """Take in one batch of counts and remove its file; one that is refused for what is in it is set aside."""
    fields, take_in = COUNTED[path.suffix[1:]]
    try:
        rows = [tuple(row) for row in orjson.loads(path.read_bytes())]
        if any(len(row) != fields for row in rows):
            raise ValueError(f"a row of {path.suffix[1:]} has {fields} fields")
        with Session(engine) as session:
            take_in(session, path.stem, path.parent.parent.name, rows)
            session.commit()
    except (ValueError, TypeError, OverflowError, DataError, IntegrityError) as error:
        set_aside(path, error, log, note)
        return
    path.unlink()


def ship_all_counts(engine: Engine, settings: Settings, log: Log, note: Note = unnoted) -> None:
    """Take in all counts that wait."""
    nodes = settings.home / "nodes"
    waiting = [path for ending in COUNTED for path in nodes.glob(f"*/spool/*.{ending}")]
    for path in sorted(waiting, key=lambda path: path.name):
        ship_counts(engine, path, log, note)


def answer_strangers(engine: Engine, settings: Settings, log: Log) -> bool:
    """Answer what a stranger asked for first, by mail; whether there was something. One that fails stops no other."""
    with Session(engine) as session:
        asked = joining.next_ask(session)
        if asked is None:
            return False
        id = asked.id
        try:
            joining.answer(session, asked, settings.portal_url, settings.sign_in_url)
            session.commit()
        except Exception as error:  # whatever is wrong with it, it is asked for no more
            session.rollback()
            log(f"what a stranger asked for ({id}) was not answered: {type(error).__name__}")
            gone = session.get(JoinAsk, id)
            if gone is not None:
                session.delete(gone)
            session.commit()
        return True


def change_plans(engine: Engine, log: Log) -> None:
    """Change the plans whose time has come."""
    with Session(engine) as session:
        for line in subscribing.change_plans_due(session):
            log(line)
        session.commit()


def drop_stale(engine: Engine, settings: Settings) -> None:
    """Drop what people did not come back to in time, and make the search where it is missing."""
    with Session(engine) as session:
        joining.drop_stale(session, now() - timedelta(days=7))
        documents.drop_unkept(session, now() - timedelta(days=1))
        attempts.drop_old_attempts(session)
        sessions.drop_ended(session, timedelta(hours=settings.session_hours))
        granting.drop_ended(session)
        sign_in_log.drop_old(session)
        catalogue.index_if_missing(session)
        session.commit()
