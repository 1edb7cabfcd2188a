"""Files of calls: made piece by piece, with how far they are; stopped when told to, dropped after some days."""

import threading
from collections.abc import Iterator, Sequence
from typing import Any

from sqlalchemy import Engine
from sqlmodel import Session, col, select

from tamarack.settings import Settings
from tamarack.store.columns import now
from tamarack.store.handed_over import queries as handing
from tamarack.store.handed_over.tables import HandedOver
from tamarack.web.table_formats import pieces

TOLD_EVERY = 20_000
"""Rows between two notes of how far a file is."""


class _Stopped(Exception):
    """Whoever asked for the file does not want it any more."""


def make_next(engine: Engine, settings: Settings, stop: threading.Event) -> bool:
    """Make the file that waits longest; False where none does. One that was begun and not ended is begun again."""
    with Session(engine) as session:
        made = session.exec(handing.unmade().order_by(col(HandedOver.asked_at)).limit(1)).first()
        if made is None:
            return False
        made.state = "running"
        session.add(made)
        session.commit()
        session.refresh(made)
        session.expunge(made)
    place = handing.place_of(settings.home, made)
    place.parent.mkdir(parents=True, exist_ok=True)
    part = place.with_suffix(".part")
    names = made.what["columns"]
    state, problem = "ready", ""
    try:
        with Session(engine) as reading, part.open("wb") as out:
            rows = _told(engine, made.id, stop, handing.rows_of(reading, handing.filter_of(made), names))
            for piece in pieces(made.form, handing.columns_of(names, made.what["names"] == "otel"), rows):
                out.write(piece)
        part.rename(place)
    except _Stopped:
        state = "stopped"
    except OSError as error:
        state, problem = "failed", f"the file cannot be written: {error}"
    if state != "ready":
        part.unlink(missing_ok=True)
    with Session(engine) as session:
        kept = session.get(HandedOver, made.id)
        if kept is not None and not stop.is_set():
            kept.state, kept.problem, kept.ended_at = state, problem, now()
            kept.size = place.stat().st_size if state == "ready" else 0
            session.add(kept)
            session.commit()
    return not stop.is_set()


def _told(engine: Engine, id: str, stop: threading.Event, rows: Iterator[Sequence[Any]]) -> Iterator[Sequence[Any]]:
    """The rows, counted; how many were written is told now and then, and a word to stop is heard."""
    many = 0
    for row in rows:
        many += 1
        yield row
        if many % TOLD_EVERY == 0:
            _tell(engine, id, many, stop)
    _tell(engine, id, many, stop)


def _tell(engine: Engine, id: str, many: int, stop: threading.Event) -> None:
    with Session(engine) as session:
        kept = session.get(HandedOver, id)
        if kept is None or kept.state != "running" or stop.is_set():
            raise _Stopped
        kept.rows = many
        session.add(kept)
        session.commit()


def drop_old(engine: Engine, settings: Settings) -> None:
    """Drop the files that were kept long enough."""
    with Session(engine) as session:
        old = session.exec(select(HandedOver).where(HandedOver.asked_at < now() - handing.KEPT)).all()
        for made in old:
            handing.place_of(settings.home, made).unlink(missing_ok=True)
            session.delete(made)
        if old:
            session.commit()
