"""The start command: again after a stop, after a kill, on busy ports, and a node without its database."""

import os
import signal
import socket
import urllib.request
from pathlib import Path

import psycopg
import pytest

from helpers import until
from journeys.conftest import Installation, start

pytestmark = pytest.mark.journey


def call(demo: Installation, key: str) -> int:
    address = f"{demo.production}/sailings/v2/sailings"
    request = urllib.request.Request(address, headers={"x-skerry-key": key})
    with urllib.request.urlopen(request, timeout=10) as answer:
        return int(answer.status)


def test_a_second_start_on_the_same_home_says_that_it_runs(demo: Installation) -> None:
    second = start(demo.home, demo.base, ready=False)
    assert second.process.wait(30) == 1
    assert "already running" in second.log.read_text()


def test_a_busy_port_gives_one_clear_line(demo: Installation, tmp_path: Path) -> None:
    with socket.create_server(("127.0.0.1", 0)) as taken:
        busy = start(tmp_path / "other", taken.getsockname()[1], ready=False)
        assert busy.process.wait(30) == 1
    assert f"port {busy.base} (for console) is in use" in busy.log.read_text()


def test_a_program_that_dies_is_started_again_and_this_is_said(demo: Installation) -> None:
    before = demo.pids()["worker"]
    os.kill(before, signal.SIGKILL)
    until(lambda: demo.pids().get("worker", before) != before, "another worker")
    assert "worker was ended by SIGKILL; starting it again" in demo.log.read_text()


def test_a_node_serves_and_records_while_the_database_is_away_even_after_its_own_restart(demo: Installation) -> None:
    key = (demo.home / "demo" / "counter-desk.production.key").read_text()
    assert call(demo, key) == 200
    database = demo.pids()["postgresql"]
    os.kill(database, signal.SIGSTOP)
    try:
        assert call(demo, key) == 200
        spool = demo.home / "nodes" / "production-1" / "spool"
        until(lambda: list(spool.glob("*.calls")), "what was recorded before the kill on disk")
        node = demo.pids()["production-1"]
        os.kill(node, signal.SIGKILL)

        def serves() -> bool:
            try:
                return call(demo, key) == 200
            except OSError:
                return False

        until(serves, "the restarted node", 30)
        before = len(list(spool.glob("*.calls")))
        until(lambda: len(list(spool.glob("*.calls"))) > before or before > 1, "records of the restarted node on disk")
    finally:
        os.kill(database, signal.SIGCONT)
    until(lambda: not list(spool.glob("*.calls")), "the records' way into the database", 30)
    with psycopg.connect(demo.database) as connection:
        row = connection.execute(
            "SELECT count(*) FROM \"call\" WHERE application = 'counter-desk' AND node = 'production-1' AND at > now() - interval '2 minutes'"
        ).fetchone()
    assert row is not None
    assert row[0] >= 2


def test_after_a_kill_the_next_start_ends_what_was_left_and_keeps_the_data(demo: Installation) -> None:
    left = demo.pids()
    demo.process.kill()
    demo.process.wait()
    again = start(demo.home, demo.base)
    demo.process = again.process  # whoever comes next goes on with it
    assert "Ended what an earlier start left running" in again.log.read_text()
    assert not any(Path(f"/proc/{pid}").exists() for pid in left.values())
    assert call(again, (demo.home / "demo" / "kiosk.production.key").read_text()) == 200
    assert "Loaded" in again.log.read_text()
    assert again.log.read_text().count("Filling in the demo") == 1
