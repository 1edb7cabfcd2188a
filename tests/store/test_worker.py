"""The worker: its tasks by themselves, batches that the database refuses, and starting and stopping."""

import json
import threading
import time
from datetime import timedelta
from pathlib import Path

import orjson
import psycopg
import pytest
from flask.testing import FlaskClient
from sqlalchemy import Engine
from sqlmodel import Session, SQLModel, select

from core.traffic.test_traffic import record
from helpers import until
from tamarack.core.traffic.record import FIELDS, Record
from tamarack.settings import Settings
from tamarack.store.applications.tables import Application, Subscription
from tamarack.store.columns import now
from tamarack.store.documents.tables import Document, DocumentReading
from tamarack.store.export.tables import Export
from tamarack.store.handed_over.tables import HandedOver
from tamarack.store.joining.tables import JoinAsk
from tamarack.store.life_cycle.tables import PlannedStep
from tamarack.store.mail.tables import Mail
from tamarack.store.mail.telling import due_mail
from tamarack.store.people.tables import Organization
from tamarack.store.traffic.set_aside import SetAside, noter
from tamarack.store.traffic.tables import CallRow
from tamarack.worker.queues import QUEUES, Watch
from tamarack.worker.runner import Task, repeat, run
from tamarack.worker.ship import Shipper, ship, ship_beside, waiting
from tamarack.worker.work import tasks


def test_a_task_that_fails_is_tried_again_said_once_and_stops_no_other() -> None:
    stop, said, tries = threading.Event(), [], []
    well: list[int] = []

    def failing() -> None:
        tries.append(1)
        if len(tries) < 4:
            raise ValueError("no way\nsecond line")

    others = [Task("failing", 0.0, failing), Task("other", 0.0, lambda: well.append(1))]
    thread = threading.Thread(target=run, args=(others, stop, said.append))
    thread.start()
    until(lambda: len(tries) > 5 and len(well) > 5, "both tasks to go on")
    stop.set()
    thread.join(10)
    assert not thread.is_alive()
    assert said == ["failing: no way; it is tried again", "failing: in order again"]


def test_more_to_do_is_done_at_once() -> None:
    stop, left = threading.Event(), list(range(50))

    def work() -> bool:
        left.pop()
        if not left:
            stop.set()
        return bool(left)

    began = time.monotonic()
    repeat(Task("work", 60.0, work), stop, print)
    assert time.monotonic() - began < 30


def test_what_is_waited_for_is_done_when_it_is_there_and_ends_when_told_to() -> None:
    stop, wake, done = threading.Event(), threading.Event(), threading.Event()
    times: list[int] = []

    def work() -> bool:
        times.append(1)
        done.set()
        return len(times) == 1

    thread = threading.Thread(target=run, args=([Task("work", 0.0, work, wake=wake)], stop, print))
    thread.start()
    assert times == []
    wake.set()
    until(lambda: len(times) == 2, "what is there, and what more there is, to be done")
    wake.set()
    until(lambda: len(times) == 3, "what is there later to be done")
    stop.set()
    thread.join(10)
    assert not thread.is_alive()
    assert len(times) == 3


PAST = now() - timedelta(seconds=1)
WAITING: dict[str, list[SQLModel]] = {
    "mail": [Mail(to="m.tern@tern-trips.example", subject="Hello", text="Hello.")],
    "documents": [Document(sha256="a", text="{}"), DocumentReading(sha256="a")],
    "files to hand over": [HandedOver(owner="i.marsh@skerry.example", what={}, form="csv", state="running")],
    "what strangers ask for": [JoinAsk(purpose="reset", email="m.tern@tern-trips.example", said={})],
    "planned steps of versions": [
        PlannedStep(api="sailings", version="1", state="retired", environment="test", at=PAST)
    ],
    "plans that change": [
        Organization(id="o", name="tern-trips", title="Tern Trips"),
        Application(id="a", organization_id="o", name="tern-mobile", title="Tern Mobile"),
        Subscription(
            application_id="a", product="passage", plan="skiff", environment="test", next_plan="ketch", next_at=PAST
        ),
    ],
    "export": [Export(on=True)],
}


@pytest.mark.parametrize("name", QUEUES)
def test_the_worker_sees_what_waits_and_for_whom(name: str, session: Session, engine: Engine) -> None:
    watch = Watch(engine, QUEUES)
    assert all(wake.is_set() for wake in watch.wakes.values()), "what a stopped worker left is looked at"
    for wake in watch.wakes.values():
        wake.clear()
    watch.look()
    assert [name for name, wake in watch.wakes.items() if wake.is_set()] == []
    for row in WAITING[name]:
        session.add(type(row)(**row.model_dump()))
        session.flush()
    session.commit()
    watch.look()
    assert [name for name, wake in watch.wakes.items() if wake.is_set()] == [name]


def test_what_waits_for_its_time_is_seen_when_that_has_come(engine: Engine, session: Session) -> None:
    watch = Watch(engine, {"mail": due_mail})
    watch.wakes["mail"].clear()
    session.add(
        Mail(to="m.tern@tern-trips.example", subject="Hello", text="Hello.", next_try_at=now() + timedelta(hours=1))
    )
    session.commit()
    watch.look()
    assert not watch.wakes["mail"].is_set()
    watch._made_at -= timedelta(hours=2)  # as it is two hours later
    watch.look()
    assert watch.wakes["mail"].is_set()


def batch(home: Path, name: str, *records: Record) -> Path:
    spool = home / "nodes" / "n1" / "spool"
    spool.mkdir(parents=True, exist_ok=True)
    path = spool / name
    path.write_bytes(orjson.dumps([list(one) for one in records]))
    return path


def test_a_batch_that_the_database_refuses_is_set_aside_told_and_stops_none_behind_it(
    settings: Settings, engine: Engine, world: Session, tmp_path: Path, admin: FlaskClient
) -> None:
    good = [record(place, id=f"g{place}") for place in range(3)]
    batch(tmp_path, "a.calls", good[0])
    batch(tmp_path, "b.calls", record(1, id="bad", agent="nul \0 inside"))
    batch(tmp_path, "c.calls", *good[1:])
    said: list[str] = []
    here = settings.model_copy(update={"home": tmp_path, "database_url": settings.database})
    shipper = Shipper(here, threading.Event(), said.append, noter(engine))
    shipper.ship_waiting()
    shipper.close()
    assert waiting(tmp_path / "nodes") == []
    assert {row.id for row in world.exec(select(CallRow)).all()} == {"g0", "g1", "g2"}
    assert len(said) == 1
    assert "b.calls of n1 cannot be taken in and was set aside" in said[0]
    (kept,) = world.exec(select(SetAside)).all()
    assert Path(kept.path).read_bytes() == orjson.dumps([list(record(1, id="bad", agent="nul \0 inside"))])
    assert "b.calls" in admin.get("/nodes").text
    told = [mail for mail in world.exec(select(Mail)) if "set aside" in mail.subject]
    assert told
    assert "0x00" in told[0].text


@pytest.mark.parametrize("changes", [{"status": 2**40}, {"total_us": 2**70}, {"at": -(2**62)}])
def test_numbers_that_fit_nowhere_are_no_reason_to_stop(
    settings: Settings, world: Session, tmp_path: Path, changes: dict[str, int]
) -> None:
    row = dict(zip(FIELDS, record(1), strict=True)) | changes
    path = batch(tmp_path, "a.calls")
    path.write_text(json.dumps([list(row.values())]))
    with psycopg.connect(settings.database, autocommit=True) as connection:
        said: list[str] = []
        assert ship(connection, [path], said.append) == 0
        assert "set aside" in said[0]
        assert ship(connection, [batch(tmp_path, "b.calls", record(2, id="after"))], said.append) == 1


def test_a_trace_with_text_that_no_database_takes_is_set_aside(
    settings: Settings, world: Session, tmp_path: Path
) -> None:
    body = {"call": "c1", "at": 1.0, "environment": "test", "application": "", "by": "", "entries": ["\0"]}
    path = batch(tmp_path, "t.traces")
    path.write_bytes(orjson.dumps([body]))
    with psycopg.connect(settings.database, autocommit=True) as connection:
        said: list[str] = []
        assert ship_beside(connection, path, said.append) == 0
        assert "set aside" in said[0]


def test_a_database_that_is_away_delays_every_batch_and_loses_none(settings: Settings, tmp_path: Path) -> None:
    batch(tmp_path, "a.calls", record(1))
    away = settings.model_copy(update={"home": tmp_path, "database_url": "postgresql://127.0.0.1:9/none"})
    shipper = Shipper(away, threading.Event(), print)
    for _ in range(2):
        with pytest.raises(psycopg.OperationalError):
            shipper.ship_waiting()
    assert [path.name for path in waiting(tmp_path / "nodes")] == ["a.calls"]


def test_every_task_of_the_worker_runs_and_ends_when_told_to(
    settings: Settings, world: Session, engine: Engine
) -> None:
    stop, said = threading.Event(), []
    done: set[str] = set()

    def noted(task: Task) -> Task:
        def do() -> bool | None:
            more = task.do()
            done.add(task.name)
            return more

        return task._replace(do=do)

    posting = settings.model_copy(update={"mail_server": "127.0.0.1:9"})
    every = [noted(task) for task in tasks(posting, stop, engine)]
    thread = threading.Thread(target=run, args=(every, stop, said.append))
    thread.start()
    until(lambda: done == {task.name for task in every}, "every task to be done once")
    stop.set()
    thread.join(20)
    assert not thread.is_alive()
    assert said == []
