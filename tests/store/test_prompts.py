"""The log of prompts: taken in once, found, noted when read, deleted, and gone after its days."""

import json
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path

import psycopg
from sqlmodel import Session, select

from tamarack.settings import Settings
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.audit.tables import AuditEntry
from tamarack.store.prompts import queries as logging
from tamarack.store.prompts.queries import Wanted
from tamarack.worker.keep import keep_house
from tamarack.worker.ship import ship_beside

PRODUCTION = Wanted("production")


def logged(call: str, text: str = "Is it late?", days: int = 7, ago_s: float = 0, **more: object) -> dict[str, object]:
    return {
        "call": call, "at": time.time() - ago_s, "days": days, "policy": "a/1/prompt-log", "environment": "production",
        "api": "announcements", "version": "1", "operation": "post /chat/completions", "organization": "ticket-office",
        "application": "counter-desk", "model": "notices", "status": 200, "reason": "", "answer": "It is 100% on time",
        "texts": [["system", "Be brief"], ["user", text]], "cut": False,
    } | more  # fmt: skip


def take_in(settings: Settings, folder: Path, *bodies: dict[str, object]) -> list[str]:
    """Hand entries on as a node does; returns what the worker had to say."""
    said: list[str] = []
    spool = folder / "n1" / "spool"
    spool.mkdir(parents=True, exist_ok=True)
    batch = spool / f"{time.time_ns()}.prompts"
    batch.write_text(json.dumps(bodies))
    with psycopg.connect(settings.database, autocommit=True) as connection:
        ship_beside(connection, batch, said.append)
    assert not batch.exists()
    return said


def test_prompts_are_kept_once_found_by_their_words_and_listed_newest_first(
    session: Session, settings: Settings, tmp_path: Path
) -> None:
    both = (logged("c1", ago_s=9), logged("c2", "Is it_on time?", application="kiosk", answer="No"))
    for _ in range(2):
        assert take_in(settings, tmp_path, *both) == []
    assert [one.call for one in logging.found(session, PRODUCTION, 0, 10)] == ["c2", "c1"]
    assert logging.found(session, PRODUCTION, 1, 1)[0].question == "Is it late?"
    found = {
        search: [one.call for one in logging.found(session, Wanted("production", search=search), 0, 9)]
        for search in ("IT LATE", "100%", "_", "nothing")
    }
    assert found == {"IT LATE": ["c1"], "100%": ["c1"], "_": ["c2"], "nothing": []}
    assert logging.many(session, Wanted("production", application="ticket-office/kiosk")) == 1
    assert logging.many(session, Wanted("test")) == 0
    assert logging.questions(session, PRODUCTION, 9) == ["Is it late?", "Is it_on time?"]
    assert logging.applications(session, "production") == ["ticket-office/counter-desk", "ticket-office/kiosk"]


def test_a_batch_that_cannot_be_read_is_set_aside(session: Session, settings: Settings, tmp_path: Path) -> None:
    said = take_in(settings, tmp_path, {"call": "c1"})
    assert "set aside" in said[0] and logging.many(session, PRODUCTION) == 0


def test_each_entry_goes_after_its_own_days(session: Session, settings: Settings, tmp_path: Path) -> None:
    day = 86_400
    take_in(settings, tmp_path, logged("c1", days=1, ago_s=1.5 * day), logged("c2", days=30, ago_s=1.5 * day))
    with psycopg.connect(settings.database, autocommit=True) as connection:
        keep_house(connection, settings)
    assert [one.call for one in logging.found(session, PRODUCTION, 0, 9)] == ["c2"]
    kept = logging.of_call(session, "c2")
    assert kept is not None and abs(kept.until - datetime.now(UTC) - timedelta(days=28.5)) < timedelta(minutes=5)


def test_reading_and_deleting_are_noted_in_the_audit_log(session: Session, settings: Settings, tmp_path: Path) -> None:
    take_in(settings, tmp_path, logged("c1"), logged("c2", application="kiosk"))
    kiosk = Wanted("production", application="ticket-office/kiosk")
    logging.note_reading(session, COMMAND_LINE, kiosk, "c2")
    assert logging.forget(session, COMMAND_LINE, kiosk) == 1
    assert [one.call for one in logging.found(session, PRODUCTION, 0, 9)] == ["c1"]
    told = [(one.action, one.subject) for one in session.exec(select(AuditEntry)) if "logged prompts" in one.action]
    assert told == [("read logged prompts", "ticket-office/kiosk"), ("delete logged prompts", "ticket-office/kiosk")]
