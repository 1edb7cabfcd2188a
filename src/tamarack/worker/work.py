"""The worker's loop."""

import signal
import sys
import threading
import time

import psycopg

from tamarack.settings import Settings
from tamarack.store.recording import KeyIds
from tamarack.worker.alerts import follow_alerts
from tamarack.worker.export import export_records
from tamarack.worker.hand_over import make_files
from tamarack.worker.jobs import do_jobs
from tamarack.worker.keep import keep_house
from tamarack.worker.key_sets import follow_key_sets
from tamarack.worker.ship import in_batches, ship, ship_traces, waiting

EVERY_S = 0.25
HOUSE_EVERY_S = 60.0


def log(text: str) -> None:
    """One line to the worker's log."""
    print(time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime()), text, file=sys.stderr, flush=True)


def work(settings: Settings) -> None:
    """Do the jobs until told to stop. A lost database is tried again; batches wait on disk meanwhile."""
    stop = threading.Event()
    for number in (signal.SIGTERM, signal.SIGINT):
        signal.signal(number, lambda *_: stop.set())
    beside = [
        threading.Thread(target=work_beside, args=(settings, stop, log), daemon=True)
        for work_beside in (follow_key_sets, do_jobs, make_files, follow_alerts, export_records)
    ]
    for thread in beside:
        thread.start()
    away = False
    while not stop.is_set():
        try:
            with psycopg.connect(settings.database, autocommit=True, connect_timeout=3) as connection:
                if away:
                    log("the database is back")
                away = False
                _work_on(connection, settings, stop)
        except psycopg.Error as error:
            if not away:
                log(f"the database is away; batches wait: {str(error).partition(chr(10))[0]}")
            away = True
            stop.wait(1.0)
    for thread in beside:
        thread.join(5)


def _work_on(connection: psycopg.Connection, settings: Settings, stop: threading.Event) -> None:
    house_at = 0.0
    ids = KeyIds()
    while not stop.is_set():
        if time.monotonic() > house_at:
            for name in keep_house(connection, settings):
                log(f"dropped {name}: past its days")
            house_at = time.monotonic() + HOUSE_EVERY_S
        for paths in in_batches(waiting(settings.home / "nodes")):
            if paths[0].suffix == ".traces":
                ship_traces(connection, paths[0], log)
            else:
                ship(connection, paths, log, ids)
            if stop.is_set():
                return
        stop.wait(EVERY_S)
