"""A node that follows the database: rollouts and keys within a second, and serving on while it is away."""

import asyncio
import os
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager, nullcontext, suppress
from datetime import UTC, datetime, timedelta
from pathlib import Path

import orjson
import psycopg
import pytest
from sqlmodel import Session

from gateway.test_carry import answering
from helpers import until
from tamarack.core.caching.kept import Kept, Terms
from tamarack.core.caching.memory import SPACE
from tamarack.core.environments.environment import Environment
from tamarack.core.identity.callers import CallerDirectory
from tamarack.core.identity.credentials import CredentialKeys
from tamarack.core.limits.memory import MemoryCounters
from tamarack.core.nodes.feed import FeedEntry
from tamarack.core.told.problems import Problems
from tamarack.core.traffic.record import Record, read_row
from tamarack.gateway.feed.contract import Feed, FeedEnded
from tamarack.gateway.feed.database import DatabaseFeed
from tamarack.gateway.feed.follow import Follower
from tamarack.gateway.feed.kept import KeptState
from tamarack.gateway.gateway import Gateway
from tamarack.gateway.recording.recorder import Recorder
from tamarack.gateway.upstream.scripted import ScriptedUpstream
from tamarack.settings import Settings
from tamarack.store.applications import changes as subscribing
from tamarack.store.applications import credentials
from tamarack.store.applications import queries as subscribers
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.environments import queries as environments
from tamarack.store.environments import removing
from tamarack.store.feed import purges
from tamarack.store.nodes import queries as known_nodes
from tamarack.store.rollouts import queries as rolling
from tamarack.store.rollouts.target_changes import ailing, target_changes
from tamarack.worker.ship import ship, waiting

PEPPER = bytes(range(32))


class Followed:
    """A node's following part, without its server."""

    def __init__(self, database: str, folder: Path, feed: Feed | None = None, pepper: bytes = PEPPER) -> None:
        recorder = Recorder(folder / "spool", 1_000_000, 0.05)
        self.gateway = Gateway(
            "n1", "production", ScriptedUpstream(answering), recorder, Problems("http://portal.example")
        )
        self.directory = CallerDirectory(pepper, "production")
        self.said: list[str] = []
        self.feed: Feed = feed or DatabaseFeed(database, "n1", "production", PEPPER)
        self.ended: FeedEnded | None = None
        kept = KeptState(folder)
        self.follower = Follower(
            self.gateway,
            self.directory,
            self.gateway.material,
            MemoryCounters(),
            kept,
            self.feed,
            "http://127.0.0.1:1",
            self.said.append,
        )
        self.follower.start_from_disk()

    @property
    def number(self) -> int:
        return self.follower.position[0]

    @contextmanager
    def following(self) -> Iterator[None]:
        loop = asyncio.new_event_loop()
        task = loop.create_task(self.follower.run())

        def work() -> None:
            asyncio.set_event_loop(loop)
            try:
                loop.run_until_complete(task)
            except asyncio.CancelledError:
                pass
            except FeedEnded as error:
                self.ended = error
            finally:
                loop.run_until_complete(self.feed.close())
                loop.close()

        thread = threading.Thread(target=work)
        thread.start()
        try:
            yield
        finally:
            with suppress(RuntimeError):  # it has ended by itself
                loop.call_soon_threadsafe(task.cancel)
            thread.join(10)


def test_a_node_hears_where_callers_reach_it_now(settings: Settings, world: Session, tmp_path: Path) -> None:
    node = Followed(settings.database, tmp_path / "n1")
    known = environments.known(world).named("production")
    assert known is not None
    with node.following():
        until(lambda: node.number, "the first rollout")
        before = node.gateway.serving
        for address in ("https://api.skerry.example", ""):
            environments.change(world, COMMAND_LINE, known.model_copy(update={"address": address}))
            world.commit()
            until(lambda: node.gateway.addresses.gateway == address, "the address")  # noqa: B023
        until(lambda: node.gateway.serving is not before, "what is served to say so")
    environments.change(world, COMMAND_LINE, known.model_copy(update={"address": "https://api.skerry.example"}))
    world.commit()
    with node.following():
        until(lambda: node.gateway.addresses.gateway == "https://api.skerry.example", "the address after a while")
    again = Followed("postgresql://nobody@127.0.0.1:9/none", tmp_path / "n1")
    assert again.gateway.addresses.gateway == "https://api.skerry.example", "it is kept"


def test_a_node_of_an_environment_that_is_not_there_ends(settings: Settings, world: Session, tmp_path: Path) -> None:
    feed = DatabaseFeed(settings.database, "n1", "staging", PEPPER)
    node = Followed(settings.database, tmp_path / "n1", feed)
    with node.following():
        until(lambda: node.ended, "the end")
    assert str(node.ended) == "there is no environment 'staging'; there are test and production"


def test_a_node_ends_when_its_environment_is_removed_and_not_when_another_is(
    settings: Settings, world: Session, tmp_path: Path
) -> None:
    for name in ("staging", "trial"):
        environments.make(world, COMMAND_LINE, Environment(name=name))
    world.commit()
    node = Followed(settings.database, tmp_path / "n1", DatabaseFeed(settings.database, "n1", "staging", PEPPER))
    node.gateway.environment = "staging"
    with node.following():
        until(lambda: node.follower.position[1], "the feed")
        removing.remove(world, COMMAND_LINE, "trial")
        world.commit()
        newest = node.follower.position[1]
        until(lambda: node.follower.position[1] >= newest, "hearing of it")
        assert node.ended is None
        removing.remove(world, COMMAND_LINE, "staging")
        world.commit()
        until(lambda: node.ended, "the end")
    assert str(node.ended) == "the environment 'staging' was removed"


def test_a_node_takes_up_rollouts_and_keys_and_says_so(settings: Settings, world: Session, tmp_path: Path) -> None:
    node = Followed(settings.database, tmp_path / "n1")
    with node.following():
        until(lambda: node.number, "the first rollout")
        owner = subscribers.organization_named(world, "tern-trips")
        assert owner is not None
        application = subscribing.make_application(world, COMMAND_LINE, owner, "Night Planner")
        made = credentials.make_credential(
            world, COMMAND_LINE, CredentialKeys(PEPPER, PEPPER), application, "production"
        )
        world.commit()
        until(lambda: node.directory.find(made.value.encode()), "the new key")
        credentials.revoke_credential(world, COMMAND_LINE, made.credential)
        newer = rolling.roll_out(world, COMMAND_LINE, "production")
        world.commit()
        until(lambda: node.number == newer.number, "the second rollout")

        def revoked() -> bool:
            found = node.directory.find(made.value.encode())
            return found is not None and found.revoked

        until(revoked, "the revocation")

        def reported() -> bool:
            world.expire_all()
            return any(n.name == "n1" and n.rollout == newer.number for n in known_nodes.nodes(world, "production"))

        until(reported, "the node's report")


def test_a_node_starts_without_the_database_from_what_it_kept(
    settings: Settings, world: Session, tmp_path: Path
) -> None:
    owner = subscribers.organization_named(world, "tern-trips")
    assert owner is not None
    application = subscribing.make_application(world, COMMAND_LINE, owner, "Night Planner")
    made = credentials.make_credential(world, COMMAND_LINE, CredentialKeys(PEPPER, PEPPER), application, "production")
    world.commit()
    first = Followed(settings.database, tmp_path / "n1")
    with first.following():
        until(lambda: first.directory.find(made.value.encode()) and first.number, "the key and the rollout")
    again = Followed("postgresql://nobody:x@127.0.0.1:1/none", tmp_path / "n1")
    assert again.gateway.serving is not None
    assert again.number == first.number
    assert again.directory.find(made.value.encode()) is not None
    with again.following():
        until(lambda: any("serving on" in line for line in again.said), "the note that the database is away")
    everything = b"".join(path.read_bytes() for path in (tmp_path / "n1").glob("*.json*"))
    assert made.value.encode() not in everything


def test_a_rollout_that_cannot_be_read_leaves_the_last_one_serving(
    settings: Settings, world: Session, tmp_path: Path
) -> None:
    node = Followed(settings.database, tmp_path / "n1")
    with node.following():
        until(lambda: node.number, "the first rollout")
        good = node.number
        with psycopg.connect(settings.database, autocommit=True) as connection:
            connection.execute(
                "INSERT INTO rollout (environment, configuration, snapshot, note, made_by, made_at)"
                " VALUES ('production', '{}', '{\"schema_version\": 99}', '', 'x', now())"
            )
            connection.execute("NOTIFY tamarack")

        def complained() -> bool:
            world.expire_all()
            return any("cannot be read" in n.problem for n in known_nodes.nodes(world))

        until(complained, "the report of the problem")
        assert node.number == good
        newer = rolling.roll_out(world, COMMAND_LINE, "production")
        world.commit()
        until(lambda: node.number == newer.number, "the next good rollout")
        assert sum("cannot be read" in line for line in node.said) == 1


def test_whatever_goes_wrong_when_a_rollout_is_taken_up_the_last_one_goes_on_serving(
    settings: Settings, world: Session, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    node = Followed(settings.database, tmp_path / "n1")
    with node.following():
        until(lambda: node.number, "the first rollout")
        good, serving = node.number, node.gateway.serving

        def broken(*args: object) -> None:
            raise RuntimeError("nobody thought of this")

        monkeypatch.setattr("tamarack.gateway.feed.follow.Serving", broken)
        rolling.roll_out(world, COMMAND_LINE, "production")
        world.commit()
        until(lambda: any("RuntimeError: nobody thought of this" in line for line in node.said), "the report of it")
        assert (node.number, node.gateway.serving) == (good, serving)
        monkeypatch.undo()
        newer = rolling.roll_out(world, COMMAND_LINE, "production")
        world.commit()
        until(lambda: node.number == newer.number, "the next good rollout")


def test_a_database_that_is_behind_what_was_kept_is_followed_from_its_start(
    settings: Settings, world: Session, tmp_path: Path
) -> None:
    kept = KeptState(tmp_path / "n1")
    digest = "ab" * 24
    kept.keep_feed([FeedEntry(99, "credential", "old", {"application": "a", "digest": digest})])
    node = Followed(settings.database, tmp_path / "n1")
    assert len(node.directory) == 1
    with node.following():
        until(lambda: len(node.directory) == 0 and node.number, "the start over")


def test_a_kept_log_cut_off_in_the_middle_is_read_up_to_there(tmp_path: Path) -> None:
    kept = KeptState(tmp_path)
    entries = [FeedEntry(n, "application", f"a{n}", {"name": "x"}) for n in (1, 2)]
    kept.keep_feed(entries)
    kept.keep_feed([FeedEntry(3, "application", "a1", None)])
    path = tmp_path / "callers.jsonl"
    path.write_bytes(path.read_bytes() + b'[4, "appl')
    assert kept.feed() == [entries[1], FeedEntry(3, "application", "a1", None)]
    (tmp_path / "snapshot.json").write_text("{")
    assert kept.snapshot() is None


def record(id: str) -> tuple[object, ...]:
    row = dict.fromkeys(Record._fields, "")
    numbers = [name for name, kind in Record.__annotations__.items() if kind in (int, "int")]
    return tuple(
        (
            row
            | dict.fromkeys(numbers, 1)
            | {"id": id, "at": 1_790_000_000_000_000, "status": 200, "stages_ns": (1, 2)}
        ).values()
    )


def test_records_wait_on_disk_and_are_taken_in_once(settings: Settings, tmp_path: Path) -> None:
    recorder = Recorder(tmp_path / "nodes/n1/spool", 1_000_000, 0.05)
    for place in range(5):
        recorder.add(record(f"c{place}"))
    recorder.flush()
    recorder.flush()
    files = waiting(tmp_path / "nodes")
    assert len(files) == 1
    again = files[0].read_bytes()
    said: list[str] = []
    with psycopg.connect(settings.database, autocommit=True) as connection:
        assert ship(connection, files[:1], said.append) == 5
        files[0].write_bytes(again)
        assert ship(connection, files[:1], said.append) == 0
        assert connection.execute('SELECT count(*) FROM "call"').fetchone() == (5,)
        files[0].write_bytes(orjson.dumps([["too", "short"]]))
        assert ship(connection, files[:1], said.append) == 0
    assert "set aside" in said[0]
    assert waiting(tmp_path / "nodes") == []
    assert list((tmp_path / "nodes/n1/spool/broken").iterdir())


def test_a_file_taken_away_while_the_spool_is_measured_costs_no_record(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    recorder = Recorder(tmp_path, 1_000_000, 0.05)
    recorder.add(record("a"))
    recorder.flush()
    (older,) = tmp_path.glob("*.calls")
    with os.scandir(tmp_path) as found:
        seen = list(found)
    older.unlink()  # the worker has taken it in
    monkeypatch.setattr(os, "scandir", lambda folder: nullcontext(seen))
    recorder.add(record("b"))
    recorder.flush()
    monkeypatch.undo()
    (newer,) = tmp_path.glob("*.calls")
    assert [read_row(row).id for row in orjson.loads(newer.read_bytes())] == ["b"]
    assert recorder.dropped == 0


def test_what_the_disk_does_not_take_goes_with_the_next_batch(tmp_path: Path) -> None:
    spool = tmp_path / "spool"
    recorder = Recorder(spool, 1_000_000, 0.05)
    counted: list[int] = []
    recorder.count = lambda records: counted.append(len(records))
    spool.rmdir()
    recorder.add(record("a"))
    recorder.flush()
    spool.mkdir()
    recorder.add(record("b"))
    recorder.flush()
    (batch,) = spool.glob("*.calls")
    assert [read_row(row).id for row in orjson.loads(batch.read_bytes())] == ["a", "b"]
    assert (recorder.dropped, counted) == (0, [1, 1])


def test_a_full_spool_drops_and_counts_and_never_raises(tmp_path: Path) -> None:
    recorder = Recorder(tmp_path, 10, 0.05)
    recorder.add(record("a"))
    recorder.flush()
    recorder.add(record("b"))
    recorder.flush()
    assert recorder.dropped == 1


def test_a_purge_reaches_a_node_within_a_second_and_takes_what_was_kept_before_it(
    settings: Settings, world: Session, tmp_path: Path
) -> None:
    node = Followed(settings.database, tmp_path / "n1")
    memory = node.gateway.caches.memory

    def keep(name: str) -> None:
        now = time.time()
        key = b"\0" * SPACE + f"GET http://a/{name}".encode()
        memory.keep(Kept("sailings/2/response-cache", key, 200, b"", b"x", Terms(60, 0, 0, False), now, now))

    with node.following():
        until(lambda: node.number, "the first rollout")
        for name in ("x/1", "x/2", "y/1"):
            keep(name)
        purges.purge(world, "sailings/2/response-cache", "GET http://a/x/1", exact=True)
        purges.purge(world, "other/1/cache")
        world.commit()
        until(lambda: len(memory) == 2, "the one to be forgotten", 5)
        purges.purge(world, "sailings/2/response-cache", "GET http://a/x")
        world.commit()
        until(lambda: len(memory) == 1, "what begins so to be forgotten", 5)
    again = Followed(settings.database, tmp_path / "n1")  # the purges are in what it kept, and mean nothing newer
    assert len(again.gateway.caches.memory) == 0


def test_a_node_tells_what_changed_with_targets_and_begins_with_well(
    settings: Settings, world: Session, tmp_path: Path
) -> None:
    def told() -> list[tuple[str, str, str]]:
        world.expire_all()
        since = datetime.now(UTC) - timedelta(hours=1)
        return [(one.target, one.state, one.why) for one in target_changes(world, "production", "positions", since)]

    def standing(target: str) -> tuple[str, str] | None:
        world.expire_all()
        rows = [one for one in known_nodes.nodes(world, "production") if one.name == "n1"]
        return next(
            ((one["backend"], one["state"]) for row in rows for one in row.targets if one["target"] == target), None
        )

    node = Followed(settings.database, tmp_path / "n1")
    with node.following():
        until(lambda: node.number, "the first rollout")
        state = next(one for one in node.gateway.states.all() if one.label.endswith(":7422"))
        for _ in range(3):
            state.noted(time.time(), 0, "took no connection", False)
        target = state.label
        until(lambda: standing(target) == ("positions", "open"), "how the target stands to be told", 10)
    assert told() == [(target, "open", "3 calls in a row failed, the last: took no connection")]
    assert ailing(world, "production", [datetime.now(UTC)], timedelta(minutes=5)) == [1]
    again = Followed(settings.database, tmp_path / "n1")
    with again.following():
        until(lambda: len(told()) == 2, "the new start to be told", 10)
    assert told()[-1] == (target, "well", "the node started")
    later = datetime.now(UTC) + timedelta(minutes=10)
    assert ailing(world, "production", [later], timedelta(minutes=1)) == [0]
