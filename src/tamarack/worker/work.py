"""What the worker does: the one list of its tasks."""

import signal
import threading

from sqlalchemy import Engine

from tamarack.settings import Settings
from tamarack.store.engine import make_engine
from tamarack.store.traffic.set_aside import noter
from tamarack.worker.alerts import look_all
from tamarack.worker.documents import DocumentTask
from tamarack.worker.export import send_next
from tamarack.worker.hand_over import drop_old, make_next
from tamarack.worker.jobs import answer_strangers, change_plans, drop_stale, ship_all_counts
from tamarack.worker.keep import HouseKeeper
from tamarack.worker.key_sets import KeySetFollower
from tamarack.worker.life_cycle import PublishedTeller, take_next_step
from tamarack.worker.mail import send_mail
from tamarack.worker.queues import QUEUES, Watch
from tamarack.worker.runner import Task, log, run
from tamarack.worker.ship import Shipper


def tasks(settings: Settings, stop: threading.Event, engine: Engine) -> list[Task]:
    """Every task, with how often it is done. A lost database makes each wait, and stops none."""
    shipper = Shipper(settings, stop, log, noter(engine))
    key_sets = KeySetFollower(engine, settings, log)
    note = noter(engine)
    documents = DocumentTask(engine, log)
    watch = Watch(engine, QUEUES)
    waited_for = [
        Task("documents", 0.0, documents.read_next, documents.close),
        Task("plans that change", 0.5, lambda: change_plans(engine, log)),
        Task("planned steps of versions", 0.5, lambda: take_next_step(engine, settings, log)),
        Task("what strangers ask for", 0.5, lambda: answer_strangers(engine, settings, log)),
        Task("mail", 0.5, lambda: bool(send_mail(engine, settings, log))),
        Task("files to hand over", 0.5, lambda: make_next(engine, settings, stop)),
        Task("export", 0.5, lambda: send_next(engine, settings, log)),
    ]
    return [
        Task("what waits", 0.2, watch.look),
        *(task._replace(wake=watch.wakes[task.name]) for task in waited_for),
        Task("records", 0.25, shipper.ship_waiting, shipper.close),
        Task("what nodes counted", 0.5, lambda: ship_all_counts(engine, settings, log, note)),
        Task("partitions and old records", 60.0, HouseKeeper(settings, log).keep),
        Task("key sets, overlaps and watches", 0.0, key_sets.look, key_sets.close),
        Task("previews that are published", 1.0, PublishedTeller(engine, settings, log).look),
        Task("links that are past, and search", 60.0, lambda: drop_stale(engine, settings)),
        Task("files that were kept long enough", 60.0, lambda: drop_old(engine, settings)),
        Task("alerts", 2.0, lambda: look_all(engine, settings, log)),
    ]


def work(settings: Settings) -> None:
    """Do them until told to stop."""
    stop = threading.Event()
    for number in (signal.SIGTERM, signal.SIGINT):
        signal.signal(number, lambda *_: stop.set())
    engine = make_engine(settings.database, size=8)
    run(tasks(settings, stop, engine), stop, log)
    engine.dispose()
