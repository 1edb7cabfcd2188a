"""A node that follows over HTTP: it takes up rollouts and keys, hands its records in, and ends when it was revoked."""

import asyncio
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from sqlmodel import Session

from feed.serving import joined, serving
from gateway.feed.test_follow import Followed, record
from helpers import apart, until
from tamarack.gateway.feed.contract import FeedAway, FeedEnded
from tamarack.gateway.feed.handing_in import BatchesOut
from tamarack.gateway.feed.over_http import BatchNotTaken, HttpFeed
from tamarack.gateway.identity import FILE, NotJoined, keep
from tamarack.gateway.identity import joined as identity_in
from tamarack.gateway.recording.recorder import Recorder
from tamarack.settings import Settings
from tamarack.store.applications import changes as subscribing
from tamarack.store.applications import credentials
from tamarack.store.applications import queries as subscribers
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.nodes import queries as known_nodes
from tamarack.store.nodes.tables import Node
from tamarack.store.rollouts import queries as rolling


@pytest.fixture
def address(world: Session, settings: Settings) -> Iterator[str]:
    with serving(settings) as made:
        yield made


def test_a_far_node_follows_as_a_near_one_and_ends_when_it_is_revoked(
    world: Session, settings: Settings, address: str, tmp_path: Path
) -> None:
    pepper = settings.keys.raw("pepper")
    _, credential = joined(world, "n1")
    node = Followed("", tmp_path / "n1", HttpFeed(address, credential, pepper), pepper)
    with node.following():
        until(lambda: node.number, "the first rollout")
        owner = subscribers.organization_named(world, "tern-trips")
        assert owner is not None
        application = subscribing.make_application(world, COMMAND_LINE, owner, "Night Planner")
        made = credentials.make_credential(world, COMMAND_LINE, settings.keys.credentials, application, "production")
        newer = rolling.roll_out(world, COMMAND_LINE, "production")
        world.commit()
        until(lambda: node.number == newer.number and node.directory.find(made.value.encode()), "rollout and key", 5)
        credentials.revoke_credential(world, COMMAND_LINE, made.credential)
        world.commit()

        def key_revoked() -> bool:
            found = node.directory.find(made.value.encode())
            return found is not None and found.revoked

        until(key_revoked, "the revoked key", 5)
        known_nodes.ask(world, COMMAND_LINE, "n1", "stopped")
        world.commit()
        until(lambda: node.gateway.standing == "stopped", "what it was asked to do", 5)

        def told() -> bool:
            world.expire_all()
            row = world.get(Node, "n1")
            return row is not None and (row.standing, row.rollout) == ("stopped", newer.number)

        until(told, "its report", 5)
        known_nodes.revoke(world, COMMAND_LINE, "n1")
        world.commit()
        until(lambda: node.ended, "its end", 10)
    assert "was revoked" in str(node.ended)


class Taken:
    """A control side that takes batches, or does not."""

    def __init__(self) -> None:
        self.taken: list[str] = []
        self.refuses = ""
        self.away = False

    async def __call__(self, name: str, content: bytes) -> None:
        if self.away:
            raise FeedAway("away")
        if name.endswith(self.refuses) and self.refuses:
            raise BatchNotTaken("row 1 is of another")
        self.taken.append(name)


def test_batches_wait_while_the_control_side_is_away_and_one_that_is_refused_stops_none(tmp_path: Path) -> None:
    recorder = Recorder(tmp_path, 1_000_000, 0.05)
    side, said = Taken(), list[str]()
    out = BatchesOut(tmp_path, side, said.append)
    for place in range(3):
        recorder.add(record(f"c{place}"))
        recorder.flush()
    names = [path.name for path in out.waiting()]
    assert len(names) == 3

    def hand_in() -> Any:
        return apart(asyncio.run, out.hand_in_waiting())

    side.away = True
    with pytest.raises(FeedAway):
        hand_in()
    assert [path.name for path in out.waiting()] == names
    side.away, side.refuses = False, names[0]
    assert hand_in() == 2
    assert side.taken == names[1:]
    assert [path.name for path in (tmp_path / "broken").iterdir()] == names[:1]
    assert "row 1 is of another" in said[0]
    assert out.waiting() == []


def test_what_a_node_is_stands_in_a_file_that_only_its_owner_reads(tmp_path: Path) -> None:
    with pytest.raises(NotJoined, match="No node joined from"):
        identity_in(tmp_path)
    kept: dict[str, Any] = {
        "feed": "http://127.0.0.1:1", "name": "pier-1", "environment": "test", "credential": "tmn_x",
        "keys": dict.fromkeys(("pepper", "sealing", "asking"), "00" * 32),
        "reach": {"unreachable": "", "reachable": "10.0.0.7:80"},
        "addresses": {"portal": "http://p", "gateway": "http://g", "sign_in": "http://s"},
    }  # fmt: skip
    keep(tmp_path, kept)
    assert (tmp_path / FILE).stat().st_mode & 0o777 == 0o600
    who = identity_in(tmp_path)
    assert (who.name, who.environment, who.portal_url) == ("pier-1", "test", "http://p")
    assert who.reach["reachable"] == "10.0.0.7:80"
    who.forget()
    assert not (tmp_path / FILE).exists()
    (tmp_path / FILE).write_text('{"feed": 1')
    with pytest.raises(NotJoined, match="cannot be read"):
        identity_in(tmp_path)


@pytest.mark.parametrize(
    ("status", "body", "error", "said"),
    [
        (403, b'{"detail": "was revoked", "reason": "revoked"}', FeedEnded, "was revoked"),
        (401, b'{"detail": "is not known"}', FeedAway, "it answered 401: is not known"),
        (403, b"<html>a proxy's page</html>", FeedAway, "it answered 403"),
        (422, b'{"detail": "row 1"}', BatchNotTaken, "row 1"),
        (503, b"null", FeedAway, "it answered 503"),
    ],
)
def test_only_the_word_revoked_ends_a_node(status: int, body: bytes, error: type[Exception], said: str) -> None:
    from tamarack.gateway.feed.over_http import _refused

    with pytest.raises(error, match=said):
        _refused(status, body)
