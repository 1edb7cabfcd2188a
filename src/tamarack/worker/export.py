"""The steady export: batches of records to an outside collector, again until they are taken."""

import re
from collections.abc import Callable
from datetime import timedelta

import orjson
from sqlalchemy import Engine
from sqlmodel import Session

from tamarack.core.traffic.otlp import request
from tamarack.settings import Settings
from tamarack.store.export import queries as exporting
from tamarack.store.secrets.queries import value_in_force
from tamarack.web.outgoing.asking import NotReached, post

TIMEOUT_S = 10.0

Log = Callable[[str], None]


def send_next(engine: Engine, settings: Settings, log: Log) -> bool:
    """Send what comes next, if its time has come; returns whether calls were taken, and more may follow."""
    with Session(engine) as session:
        return send_one(session, settings, log) > 0


def send_one(session: Session, settings: Settings, log: Log) -> int:
    """Send one request, if its time has come; returns how many calls were taken."""
    kept = session.exec(exporting.due()).first()
    if kept is None:
        return 0
    batches = exporting.following(session, kept)
    if not batches:
        return 0
    headers = {"content-type": "application/json"}
    if kept.secret:
        headers[kept.header] = value_in_force(session, settings.keys.credentials.sealing, kept.secret)
    after = None
    try:
        sent = orjson.dumps(request(batches))
        status, fields, body = post(kept.address, sent, headers, settings.reach, TIMEOUT_S)
        problem = "" if 200 <= status < 300 else f"{kept.address} answered {status}: {body[:200]!r}"
        wait = fields.get("retry-after", "")
        after = timedelta(seconds=int(wait)) if re.fullmatch("[0-9]{1,6}", wait) else None
    except NotReached as error:
        problem = str(error)
    if problem:
        if not kept.tries:
            log(f"export: {problem}; it is tried again")
        exporting.note_not_taken(session, kept, problem, after)
        session.commit()
        return 0
    if kept.tries:
        log(f"export: {kept.address} takes records again")
    exporting.note_taken(session, kept, batches)
    session.commit()
    return sum(len(calls) for _, _, calls in batches)
