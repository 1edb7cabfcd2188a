"""The feed's contract: one suite for the database near by and for HTTP from far away."""

import asyncio
import time
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import timedelta

import psycopg
import pytest
from sqlmodel import Session, col, select

from feed.serving import joined, serving
from helpers import apart
from sign_in.passengers import Passengers
from tamarack.core.identity.credentials import digest
from tamarack.core.identity.sealing import unseal
from tamarack.core.nodes.feed import FeedEntry, News, Report, TargetEvent, TargetStanding
from tamarack.core.nodes.keys import sealing_key
from tamarack.gateway.feed.contract import Feed, FeedAway
from tamarack.gateway.feed.database import DatabaseFeed
from tamarack.gateway.feed.over_http import HttpFeed
from tamarack.settings import Settings
from tamarack.store.applications import changes as subscribing
from tamarack.store.applications import credentials
from tamarack.store.applications import queries as subscribers
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.columns import now
from tamarack.store.feed.items import publish
from tamarack.store.nodes import queries as known_nodes
from tamarack.store.nodes import statements
from tamarack.store.nodes.tables import Node
from tamarack.store.rollouts import queries as rolling
from tamarack.store.rollouts.tables import TargetChange
from tamarack.store.secrets.queries import set_secret
from tamarack.store.sign_in import grants as granting
from tamarack.store.sign_in.tables import OpaqueToken

NAME = "pier-1"


@dataclass
class Side:
    """One implementation, ready to be asked, and the key by which it opens secrets."""

    kind: str
    address: str
    credential: str
    settings: Settings

    def feed(self) -> Feed:
        pepper = self.settings.keys.raw("pepper")
        if self.kind == "database":
            return DatabaseFeed(self.settings.database, NAME, "production", pepper)
        return HttpFeed(self.address, self.credential, pepper)

    def away(self) -> Feed:
        if self.kind == "database":
            return DatabaseFeed("postgresql://nobody@127.0.0.1:9/none", NAME, "production", bytes(32))
        return HttpFeed("http://127.0.0.1:9", "tmn_x", bytes(32))

    @property
    def sealing(self) -> bytes:
        own = self.settings.keys.raw("secrets")
        return own if self.kind == "database" else sealing_key(own, NAME)


@pytest.fixture
def callers(world: Session, settings: Settings) -> None:
    """Somebody who calls, so that there is something in the feed."""
    owner = subscribers.organization_named(world, "tern-trips")
    assert owner is not None
    application = subscribing.make_application(world, COMMAND_LINE, owner, "Night Planner")
    credentials.make_credential(world, COMMAND_LINE, settings.keys.credentials, application, "production")
    credentials.make_credential(world, COMMAND_LINE, settings.keys.credentials, application, "test")
    world.commit()


@pytest.fixture(params=["database", "http"])
def side(request: pytest.FixtureRequest, world: Session, settings: Settings) -> Iterator[Side]:
    """Each implementation in turn."""
    if request.param == "database":
        yield Side("database", "", "", settings)
        return
    _, credential = joined(world, NAME)
    with serving(settings) as address:
        yield Side("http", address, credential, settings)


def go(side: Side, work: object) -> None:
    """Run `work(feed)` to its end."""

    async def run() -> None:
        feed = side.feed()
        try:
            await feed.begin()
            await work(feed)  # type: ignore[operator]
        finally:
            await feed.close()

    apart(asyncio.run, run())


async def everything(feed: Feed) -> tuple[list[FeedEntry], News]:
    """All items, and the last news."""
    found: list[FeedEntry] = []
    while True:
        news = await feed.look(found[-1].seq if found else 0, 0, "serving", 0)
        found += news.entries
        if news.rollout is not None:
            return found, news


def test_a_new_node_is_told_everything_and_the_rollout_last(side: Side, world: Session, callers: None) -> None:
    running = rolling.running(world, "production")
    assert running is not None

    async def work(feed: Feed) -> None:
        found, news = await everything(feed)
        assert [entry.seq for entry in found] == sorted({entry.seq for entry in found})
        assert found[-1].seq == news.newest
        assert {"application", "credential"} <= {entry.kind for entry in found}
        assert news.rollout == (running.number, running.snapshot)
        assert news.standing == "serving"

    go(side, work)


def test_many_items_come_in_pieces_and_no_rollout_before_the_last(
    side: Side, callers: None, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(statements, "ITEMS", statements.ITEMS.replace(str(statements.AT_ONCE), "2"))

    async def work(feed: Feed) -> None:
        first = await feed.look(0, 0, "serving", 0)
        assert (len(first.entries), first.rollout) == (2, None)
        assert first.newest > first.entries[-1].seq
        found, news = await everything(feed)
        assert len(found) > 2
        assert found[-1].seq == news.newest

    go(side, work)


def test_secrets_can_be_opened_by_the_node_that_is_told_them(side: Side, world: Session) -> None:
    set_secret(world, COMMAND_LINE, side.settings.keys.raw("secrets"), "pier-token", "held fast", "production")
    world.commit()

    async def work(feed: Feed) -> None:
        found, _ = await everything(feed)
        told = next(entry for entry in found if (entry.kind, entry.key) == ("secret", "pier-token"))
        assert told.body is not None
        (value,) = told.body["values"]["production"]
        assert unseal(value["sealed"], side.sealing, "secret pier-token") == b"held fast"

    go(side, work)


def test_a_look_waits_and_is_woken_by_what_comes(side: Side, world: Session) -> None:
    async def work(feed: Feed) -> None:
        _, news = await everything(feed)
        number = news.rollout[0] if news.rollout else 0
        begun = time.monotonic()
        quiet = await feed.look(news.newest, number, "serving", 0.3)
        assert (quiet.entries, quiet.rollout) == ([], None)
        assert time.monotonic() - begun >= 0.25

        async def woken_by(change: object, standing: str = "serving") -> News:
            loop = asyncio.get_running_loop()
            waiting = asyncio.create_task(feed.look(news.newest, number, standing, 2))
            await loop.run_in_executor(None, change)  # type: ignore[arg-type]
            while not (told := await waiting).entries and told.rollout is None:
                waiting = asyncio.create_task(feed.look(news.newest, number, standing, 2))
            return told

        def publish_one() -> None:
            publish(world, "application", "a-new", {"name": "Night Planner"})
            world.commit()

        assert [entry.key for entry in (await woken_by(publish_one)).entries] == ["a-new"]
        news = News(news.newest + 1)

        def roll_out() -> None:
            rolling.roll_out(world, COMMAND_LINE, "production")
            world.commit()

        told = await woken_by(roll_out)
        assert told.rollout is not None and told.rollout[0] > number

    go(side, work)


def test_what_a_node_says_of_itself_is_kept_and_what_it_is_asked_comes_back(side: Side, world: Session) -> None:
    report = Report(
        address="http://127.0.0.1:1", version="0.1.0", rollout=1, feed=2, connections=3, memory_bytes=4, calls_per_s=5.5,
        clock_ms=-6.0, first=True, targets=[TargetStanding(backend="positions", target="t", state="open", why="w")],
        events=[TargetEvent(at=1_790_000_000.0, backend="positions", target="t", state="open", why="w")],
    )  # fmt: skip

    async def work(feed: Feed) -> None:
        there = await feed.report(report)
        assert abs(there - time.time()) < 60
        await feed.report(report.model_copy(update={"first": False, "events": [], "rollout": 2}))
        await asyncio.get_running_loop().run_in_executor(None, ask)
        assert (await feed.look(0, 0, "serving", 0)).standing == "draining"

    def ask() -> None:
        known_nodes.ask(world, COMMAND_LINE, NAME, "draining")
        world.commit()

    go(side, work)
    world.expire_all()
    node = world.get(Node, NAME)
    assert node is not None
    assert (node.rollout, node.connections, node.calls_per_s, node.clock_ms) == (2, 3, 5.5, -6.0)
    assert node.targets == [{"backend": "positions", "target": "t", "state": "open", "why": "w", "under_way": 0}]
    changes = world.exec(select(TargetChange).where(col(TargetChange.node) == NAME)).all()
    assert [(one.target, one.state, one.environment) for one in changes] == [("t", "open", "production")]


def test_a_node_that_starts_knows_nothing_against_its_targets(side: Side, world: Session) -> None:
    world.add(
        TargetChange(at=now(), environment="production", node=NAME, backend="positions", target="t", state="open")
    )
    world.commit()

    async def work(feed: Feed) -> None:
        await feed.report(Report(first=True))

    go(side, work)
    changes = world.exec(
        select(TargetChange).where(col(TargetChange.node) == NAME).order_by(col(TargetChange.id))
    ).all()
    assert [(one.state, one.why) for one in changes][1:] == [("well", "the node started")]


def test_opaque_tokens_are_looked_up_and_those_that_are_not_good_left_out(
    side: Side, world: Session, passengers: Passengers
) -> None:
    pepper = side.settings.keys.raw("pepper")
    grant = granting.new_grant(world, passengers.web, passengers.user.id, [])
    later = now() + timedelta(hours=1)
    world.add(
        OpaqueToken(
            digest=digest(b"at_good", pepper, "sign-in"), grant_id=grant.id, claims={"sub": "s"}, expires_at=later
        )
    )
    world.commit()

    async def work(feed: Feed) -> None:
        assert await feed.find_tokens([b"at_good", b"at_none", b"\xff\x00"]) == {b"at_good": {"sub": "s"}}

    go(side, work)


def test_a_key_set_is_asked_for(side: Side) -> None:
    heard: list[str] = []

    async def work(feed: Feed) -> None:
        with psycopg.connect(side.settings.database, autocommit=True) as connection:
            connection.execute(f"LISTEN {statements.KEY_SETS}")
            await feed.ask_for_key_set("https://issuer.example/keys")
            heard.extend(one.payload for one in connection.notifies(timeout=10, stop_after=1))

    go(side, work)
    assert heard == ["https://issuer.example/keys"]


def test_a_control_side_that_is_away_is_said_to_be(side: Side) -> None:
    async def run() -> None:
        feed = side.away()
        try:
            with pytest.raises(FeedAway):
                await feed.begin()  # over HTTP nothing is connected to before something is asked
                await feed.look(0, 0, "serving", 0)
            with pytest.raises(FeedAway):
                await feed.report(Report())
            with pytest.raises(OSError):
                await feed.find_tokens([b"at_good"])
            with pytest.raises(OSError):
                await feed.ask_for_key_set("https://issuer.example/keys")
        finally:
            await feed.close()

    apart(asyncio.run, run())
