"""Nodes replaced one at a time by newer ones, across a version of the snapshot that the older ones cannot read."""

import http.client
import os
import shutil
import signal
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest
from sqlalchemy import text
from sqlmodel import Session

from helpers import free_port, until
from tamarack.core.configuration import snapshot
from tamarack.settings import Settings
from tamarack.store.applications import changes as subscribing
from tamarack.store.applications import credentials
from tamarack.store.applications import queries as subscribers
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.nodes.tables import Node
from tamarack.store.rollouts import queries as rolling

SOURCE = Path("src").absolute()
NEWER = snapshot.SCHEMA + 1


class Place:
    """Where one node runs: its port stays, and the program that serves there is exchanged."""

    def __init__(self, name: str, settings: Settings, folder: Path) -> None:
        self.name, self.port = name, free_port()
        self.log = folder / f"{name}.log"
        self._said = {"TAMARACK_HOME": str(settings.home), "TAMARACK_DATABASE_URL": settings.database_url,
                      "TAMARACK_REDIS_URL": "none", "TAMARACK_METRICS_HOST": ""}  # fmt: skip
        self.process: subprocess.Popen[bytes] | None = None

    def run(self, source: Path) -> None:
        """End what runs here, and run the node from some source in its place."""
        self.end()
        command = [sys.executable, "-m", "tamarack", "gateway", "--name", self.name, "--environment", "production",
                   "--port", str(self.port)]  # fmt: skip
        with self.log.open("ab") as out:
            environment = os.environ | self._said | {"PYTHONPATH": str(source)}
            self.process = subprocess.Popen(command, env=environment, stdout=out, stderr=out)

    def end(self) -> None:
        if self.process is not None:
            self.process.send_signal(signal.SIGTERM)
            self.process.wait(30)
            self.process = None

    def took_up(self, number: int) -> bool:
        assert self.process is None or self.process.poll() is None, self.log.read_text()
        return f"took up rollout {number}" in self.log.read_text()

    def call(self, key: str) -> int:
        connection = http.client.HTTPConnection("127.0.0.1", self.port, timeout=20)
        try:
            connection.request("GET", "/freight/v2/bookings/KC-1", headers={"X-Skerry-Key": key})
            answer = connection.getresponse()
            answer.read()
            return answer.status
        finally:
            connection.close()


@pytest.fixture
def places(settings: Settings, world: Session, tmp_path: Path) -> Iterator[list[Place]]:
    made = [Place(name, settings, tmp_path) for name in ("quay-1", "quay-2")]
    yield made
    for one in made:
        one.end()


def _newer_source(folder: Path) -> Path:
    """The program as it might be next: it reads one more version of the snapshot."""
    shutil.copytree(SOURCE, folder, ignore=shutil.ignore_patterns("__pycache__", "static"))
    path = folder / Path(snapshot.__file__).relative_to(SOURCE)
    before = path.read_text()
    after = before.replace("schema_version: Literal[1]", f"schema_version: Literal[1, {NEWER}]")
    assert after != before
    path.write_text(after)
    return folder


def _roll_out_newer(world: Session) -> int:
    """A rollout as a newer control side makes it."""
    made = rolling.roll_out(world, COMMAND_LINE, "production")
    version = text("UPDATE rollout SET snapshot = jsonb_set(snapshot::jsonb, '{schema_version}', :v) WHERE number = :n")
    world.connection().execute(version, {"v": str(NEWER), "n": made.number})
    world.commit()
    assert made.number is not None
    return made.number


def test_older_nodes_serve_what_they_have_until_each_is_replaced(
    places: list[Place], world: Session, settings: Settings, tmp_path: Path
) -> None:
    owner = subscribers.organization_named(world, "tern-trips")
    assert owner is not None
    application = subscribing.make_application(world, COMMAND_LINE, owner, "Night Planner")
    key = credentials.make_credential(world, COMMAND_LINE, settings.keys.credentials, application, "production").value
    world.commit()
    first = rolling.running_number(world, "production")
    for place in places:
        place.run(SOURCE)
    for place in places:
        until(lambda p=place: p.took_up(first), "the first rollout", 60)  # type: ignore[misc]
    assert places[0].call(key) == 200

    second = _roll_out_newer(world)

    def problem(name: str) -> str:
        world.expire_all()
        node = world.get(Node, name)
        return node.problem if node is not None else ""

    for place in places:
        until(lambda p=place: problem(p.name), "the node to say so", 20)  # type: ignore[misc]
        assert problem(place.name).startswith(f"rollout {second} cannot be read: ")
        assert place.call(key) == 200, "what it has goes on serving"

    newer = _newer_source(tmp_path / "newer")
    for number, place in enumerate(places):
        place.run(newer)
        until(lambda p=place: p.took_up(second), "the rollout that only newer ones read", 60)  # type: ignore[misc]
        until(lambda p=place: not problem(p.name), "the node to say that all is well", 20)  # type: ignore[misc]
        assert [one.call(key) for one in places] == [200, 200]
        assert bool(problem(places[1].name)) == (number == 0), "the other one is as it was"
