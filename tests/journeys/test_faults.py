"""Counts that agree with what was sent, whatever fell over meanwhile."""

import http.client
import os
import signal
import threading
from collections.abc import Iterator
from contextlib import contextmanager

import psycopg
import pytest

from helpers import until
from journeys.conftest import Installation
from tamarack.core.traffic.rollup import GRAINS

pytestmark = pytest.mark.journey
TIME, PROCESS = slice(11), slice(11, 17)
"""The parts of a call id that say when its call came, and which process of a node took it."""


class Load:
    """Calls of a known agent to both production nodes, over kept connections; notes the id of every answer."""

    def __init__(self, demo: Installation, agent: str) -> None:
        self.agent = agent
        self.key = (demo.home / "demo" / "counter-desk.production.key").read_text()
        self.ids: dict[int, list[str]] = {demo.base + 2: [], demo.base + 3: []}
        self._stop = threading.Event()
        self._threads = [threading.Thread(target=self._send, args=(port,)) for port in self.ids]

    def _send(self, port: int) -> None:
        connection = http.client.HTTPConnection("127.0.0.1", port, timeout=10)
        while not self._stop.is_set():
            try:
                connection.request(
                    "GET", "/sailings/v2/ports", headers={"X-Skerry-Key": self.key, "User-Agent": self.agent}
                )
                answer = connection.getresponse()
                answer.read()
                self.ids[port].append(answer.headers["tamarack-call-id"])
            except (OSError, http.client.HTTPException):
                connection.close()
                self._stop.wait(0.05)
            self._stop.wait(0.002)
        connection.close()

    @property
    def many(self) -> int:
        return sum(map(len, self.ids.values()))

    @contextmanager
    def running(self) -> Iterator["Load"]:
        for thread in self._threads:
            thread.start()
        try:
            yield self
        finally:
            self._stop.set()
            for thread in self._threads:
                thread.join(20)


def recorded(demo: Installation, agent: str) -> list[str]:
    """The ids of the calls of an agent that are in the database."""
    with psycopg.connect(demo.database, connect_timeout=10) as connection:
        rows = connection.execute(
            "SELECT id FROM call WHERE agent = %s AND at > now() - interval '30 minutes'", (agent,)
        ).fetchall()
    return [id for (id,) in rows]


def in_roll_ups(demo: Installation) -> tuple[int, list[int]]:
    """The calls of the last hours, counted one by one, and by each roll-up, within whole days."""
    with psycopg.connect(demo.database, autocommit=True) as connection:
        connection.execute("BEGIN ISOLATION LEVEL REPEATABLE READ")
        row = connection.execute("SELECT count(*) FROM call").fetchone()
        sums = [connection.execute(f"SELECT sum(calls)::bigint FROM rollup_{grain}").fetchone()
                for grain in GRAINS]  # fmt: skip
        connection.execute("COMMIT")
    assert row is not None
    return row[0], [one[0] for one in sums if one is not None]


def test_counts_agree_after_the_database_was_away_under_load(demo: Installation) -> None:
    database = demo.pids()["postgresql"]
    with Load(demo, "away/1").running() as load:
        until(lambda: load.many > 100, "calls before")
        os.kill(database, signal.SIGINT)  # PostgreSQL's fast shutdown; the start command brings it back
        before = load.many
        until(lambda: load.many > before + 400, "calls while it is away", 60)
        until(lambda: demo.pids().get("postgresql") not in (None, database), "another database", 60)
        after = load.many
        until(lambda: load.many > after + 100, "calls after", 60)
    sent = sorted(id for ids in load.ids.values() for id in ids)
    until(lambda: len(recorded_or_none(demo, "away/1")) >= len(sent), "all of them recorded", 60)
    assert sorted(recorded(demo, "away/1")) == sent
    singly, rolled = in_roll_ups(demo)
    assert rolled == [singly] * len(GRAINS)


def recorded_or_none(demo: Installation, agent: str) -> list[str]:
    try:
        return recorded(demo, agent)
    except psycopg.OperationalError:
        return []


def test_a_killed_node_loses_only_what_came_after_its_last_batch(demo: Installation) -> None:
    port = demo.base + 3
    with Load(demo, "killed/1").running() as load:
        until(lambda: len(load.ids[port]) > 300, "calls to the node", 60)
        killed = demo.pids()["production-2"]
        os.kill(killed, signal.SIGKILL)
        until(lambda: demo.pids().get("production-2", killed) != killed, "another node", 60)
        before = load.ids[port][0][PROCESS]
        until(lambda: sum(id[PROCESS] != before for id in load.ids[port]) > 50, "calls to it", 60)
    due = {load.ids[port][-1], *load.ids[demo.base + 2]}  # the node that was not killed lost nothing
    until(lambda: due <= set(recorded(demo, "killed/1")), "the last call, and all to the other node, recorded", 60)
    kept = set(recorded(demo, "killed/1"))
    carried = [id for id in load.ids[port] if id[PROCESS] == before]
    lost = [id for id in carried if id not in kept]
    newest = max(id for id in carried if id in kept)
    assert all(id[TIME] >= newest[TIME] for id in lost)  # only the tail is gone
    assert set(load.ids[port]) - set(lost) <= kept
