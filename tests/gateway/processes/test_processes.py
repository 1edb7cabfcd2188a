"""One node on several processes: behind one port, shown as one, and each started again without a refused connection."""

import asyncio
import http.client
import os
import signal
import socket
import subprocess
import sys
import threading
import urllib.request
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

import pytest
from sqlmodel import Session

from gateway.test_metering import PATH, _console, metered, serve
from helpers import apart, free_port, until
from tamarack.compiled import is_compiled
from tamarack.core.limits.live import LiveCounter
from tamarack.gateway.measured import Gauge
from tamarack.gateway.processes.how_many import how_many
from tamarack.gateway.processes.siblings import Siblings, serve_siblings, together
from tamarack.gateway.processes.tally import Counted, Tally
from tamarack.gateway.processes.told_metrics import Told, added
from tamarack.settings import METRICS, Settings
from tamarack.store.applications import changes as subscribing
from tamarack.store.applications import credentials
from tamarack.store.applications import queries as subscribers
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.nodes.tables import Node

# what is worked out without processes


def test_a_number_of_processes_is_read_or_refused_in_words() -> None:
    assert how_many("1") == 1
    assert 1 <= how_many("auto") <= 64
    for wrong in ("0", "65", "two", "-1", ""):
        with pytest.raises(ValueError, match="is no number of processes: write 1 to 64, or auto"):
            how_many(wrong)


def test_counts_are_added_up_and_a_rate_is_of_all_processes() -> None:
    tally, now = Tally(2), [0.0]
    tally.put(0, Counted(10, 1, 100))
    tally.put(1, Counted(5, 2, 50))
    assert tally.all() == (15, 3, 150)
    gauge = Gauge(tally, lambda: 7, lambda: now[0])
    tally.put(1, Counted(25, 2, 50))
    now[0] = 2.0
    measured = gauge()
    assert (measured.calls_per_s, measured.connections, measured.memory_bytes, measured.spool_bytes) == (
        10.0,
        3,
        150,
        7,
    )


def counter(key: str, used: int, held: int = 0) -> LiveCounter:
    return LiveCounter("plan", "5 per day", key, used, 5, 9, held)


def test_the_console_is_answered_for_all_processes_together() -> None:
    own = {"counting": "by itself", "counters": [tuple(counter("a", 2))], "problem": ""}
    other = {"counting": "by itself", "counters": [tuple(counter("a", 1, 1)), tuple(counter("b", 4))], "problem": ""}
    assert together(own, [], 10, False) == own
    assert together(own, [other], 10, False)["counters"] == [counter("b", 4), counter("a", 3, 1)]
    assert together(own, [other], 10, True)["counters"] == [counter("b", 4), counter("a", 2, 1)], "they count together"
    kept = {"kept": [["x"]], "kept_many": 1, "kept_bytes": 5}
    made = together(own | kept, [other | kept], 10, False)
    assert (made["kept"], made["kept_many"], made["kept_bytes"]) == ([["x"], ["x"]], 2, 10)


def test_metrics_of_processes_are_added_but_what_all_mean_the_same_is_not() -> None:
    def of(calls: float, rollout: float, kept: float) -> Told:
        return {
            ("tamarack_calls", "", "counter"): {("tamarack_calls_total", (("api", "a"),)): calls},
            ("tamarack_rollout", "", "gauge"): {("tamarack_rollout", ()): rollout},
            ("tamarack_kept_answers", "", "gauge"): {("tamarack_kept_answers", ()): kept},
        }

    assert added((of(1, 7, 2), of(4, 8, 3))) == of(5, 8, 5)


def test_what_the_console_asks_one_process_it_is_told_of_all() -> None:
    limited = metered({"kind": "rate-limit", "name": "live", "windows": ["5 per day"]})
    name = f"\0tamarack-test-{os.getpid()}"
    with serve(limited) as one, serve(limited) as other, socket.socket(socket.AF_UNIX) as asked:
        asked.setblocking(False)
        asked.bind(name)
        asked.listen()
        made = asyncio.run_coroutine_threadsafe(serve_siblings(asked, other.gateway.answer_sibling), other.loop)
        server = made.result(5)
        one.gateway.siblings = Siblings((name, name + "-none"))
        for node in (one, other, other):
            assert node.get(PATH).status == 200
        assert [row[2:5] for row in _console(one, search="live")["counters"]] == [["a", 3, 5]]
        assert _console(one, do="clear", id="sailings/2/live", key="a")["problem"] == ""
        assert _console(one, search="live")["counters"] == []
        assert apart(asyncio.run, _asked(name, b"not sealed by the console")) == b""
        asyncio.run_coroutine_threadsafe(_close(server), other.loop).result(5)


async def _close(server: asyncio.Server) -> None:
    server.close()
    await asyncio.sleep(0)


async def _asked(name: str, sealed: bytes) -> bytes:
    connection = socket.socket(socket.AF_UNIX)
    connection.setblocking(False)
    await asyncio.get_running_loop().sock_connect(connection, name)
    reader, writer = await asyncio.open_unix_connection(sock=connection)
    writer.write(sealed + b"\n")
    answer = await reader.read()
    writer.close()
    return answer


# real processes


@dataclass
class Running:
    """A node on two processes."""

    process: subprocess.Popen[bytes]
    port: int
    key: str
    log: Path
    refused: list[str] = field(default_factory=list)
    answered: int = 0

    @property
    def children(self) -> list[int]:
        found = Path(f"/proc/{self.process.pid}/task/{self.process.pid}/children").read_text()
        return [int(pid) for pid in found.split()]

    def call(self) -> int:
        connection = http.client.HTTPConnection("127.0.0.1", self.port, timeout=20)
        try:
            connection.request("GET", "/freight-bookings/v2/bookings/KC-1", headers={"X-Skerry-Key": self.key})
            answer = connection.getresponse()
            answer.read()
            return answer.status
        finally:
            connection.close()

    def counted(self) -> float:
        """Calls by the node's metrics."""
        page = urllib.request.urlopen(f"http://127.0.0.1:{self.port + METRICS}/metrics", timeout=10).read().decode()
        return sum(float(line.split()[-1]) for line in page.splitlines() if line.startswith("tamarack_calls_total"))

    def call_until(self, done: threading.Event) -> None:
        while not done.is_set():
            try:
                self.call()
                self.answered += 1
            except ConnectionRefusedError as error:
                self.refused.append(str(error))
            except (OSError, http.client.HTTPException):
                pass  # the call that the process was carrying when it was ended


@pytest.fixture
def node(world: Session, settings: Settings, tmp_path: Path) -> Iterator[Running]:
    owner = subscribers.organization_named(world, "tern-trips")
    assert owner is not None
    application = subscribing.make_application(world, COMMAND_LINE, owner, "Night Planner")
    key = credentials.make_credential(world, COMMAND_LINE, settings.keys.credentials, application, "production").value
    world.commit()
    port = free_port()
    while port + METRICS > 65535:
        port = free_port()
    said = {
        "TAMARACK_HOME": str(settings.home), "TAMARACK_DATABASE_URL": settings.database_url,
        "TAMARACK_REDIS_URL": "none", "PYTHONPATH": "src",
    }  # fmt: skip
    command = [sys.executable, "-m", "tamarack", "gateway", "--name", "pair", "--environment", "production",
               "--port", str(port), "--processes", "2"]  # fmt: skip
    log = tmp_path / "pair.log"
    with log.open("wb") as out:
        process = subprocess.Popen(command, env=os.environ | said, stdout=out, stderr=out)
    made = Running(process, port, key, log)

    def ready() -> bool:
        assert process.poll() is None, log.read_text()
        return log.read_text().count("took up rollout") == 2

    try:
        until(ready, "both processes to take up the rollout", 60)
        yield made
    finally:
        if process.poll() is None:
            process.send_signal(signal.SIGTERM)
            assert process.wait(30) == 0, log.read_text()


def test_two_processes_are_one_node_and_one_that_dies_is_started_again(node: Running, world: Session) -> None:
    first = node.children
    assert len(first) == 2
    kind = "compiled" if is_compiled() else "as Python"
    until(lambda: node.log.read_text().count(f"listens; the call path runs {kind}\n") == 2, "both to say how they run")
    done = threading.Event()
    callers = [threading.Thread(target=node.call_until, args=(done,)) for _ in range(4)]
    for one in callers:
        one.start()
    try:
        until(lambda: node.counted() > 20, "calls to be counted", 30)
        before = node.counted()
        os.kill(first[1], signal.SIGKILL)
        until(lambda: node.log.read_text().count("took up rollout") == 3, "the process to be started again", 30)
        answered = node.answered
        until(lambda: node.answered > answered + 20, "calls after it", 30)
        assert node.counted() >= before, "no count falls, though the process that counted is another"
    finally:
        done.set()
        for one in callers:
            one.join(30)
    assert node.refused == []
    assert "process 2 of 2 was ended by SIGKILL; starting it again" in node.log.read_text()
    assert len(node.children) == 2
    assert first[0] in node.children

    def row() -> Node | None:
        world.expire_all()
        found = world.get(Node, "pair")
        return found if found is not None and found.calls_per_s > 0 else None

    told = until(row, "the node's report", 20)
    assert told.counting == "each process by itself"
    assert told.memory_bytes > 100_000_000


def test_when_the_parent_is_killed_its_processes_end(node: Running) -> None:
    children = node.children
    node.process.kill()
    node.process.wait(10)
    until(lambda: not any(Path(f"/proc/{pid}/stat").exists() and _lives(pid) for pid in children), "their end", 30)


def _lives(pid: int) -> bool:
    try:
        return Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[0] not in ("Z", "X")
    except OSError:
        return False
