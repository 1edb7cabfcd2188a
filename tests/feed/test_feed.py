"""The feed program: who may ask it, how a node joins, what it hands in, and what is refused."""

import gzip
import io
import json
from collections.abc import Iterator
from datetime import timedelta
from typing import Any

import pytest
from flask.testing import FlaskClient
from sqlmodel import Session, select
from werkzeug.test import TestResponse

from feed.serving import joined
from tamarack.core.traffic.record import Record
from tamarack.feed import handing_in
from tamarack.feed.app import make_app
from tamarack.settings import Settings
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.audit.tables import AuditEntry
from tamarack.store.columns import now
from tamarack.store.errors import NotPossible
from tamarack.store.nodes import joining
from tamarack.store.nodes import queries as known_nodes
from tamarack.store.nodes.tables import JoinToken, Node

BATCH = "0123456789ab-00000001.calls"


@pytest.fixture
def feed(world: Session, settings: Settings) -> Iterator[FlaskClient]:
    app = make_app(settings)
    yield app.test_client()
    app.extensions["tamarack_waker"].close()
    app.extensions["tamarack_engine"].dispose()


def bearer(value: str) -> dict[str, str]:
    return {"Authorization": f"Bearer {value}"}


def join(feed: FlaskClient, token: str, name: str = "pier-1") -> TestResponse:
    return feed.post("/join", json={"name": name}, headers=bearer(token))


def token(world: Session, environment: str = "test", labels: str = "") -> joining.NewToken:
    made = joining.make_token(world, COMMAND_LINE, environment, labels)
    world.commit()
    return made


def detail(answer: TestResponse) -> str:
    assert answer.mimetype == "application/problem+json"
    return str(answer.json["detail"]) if answer.json else ""


# joining


def test_a_token_lets_one_node_join_and_tells_it_what_it_needs(
    feed: FlaskClient, world: Session, settings: Settings
) -> None:
    made = token(world, labels="site=harbour")
    told = join(feed, made.value).json
    assert told is not None
    assert (told["name"], told["environment"]) == ("pier-1", "test")
    keys = settings.keys
    assert told["keys"]["pepper"] == keys.text("pepper")
    assert not {told["keys"]["sealing"], told["keys"]["asking"]} & {keys.text("secrets"), keys.text("bench")}
    assert feed.get("/feed?after=0&above=0", headers=bearer(told["credential"])).status_code == 200
    again = join(feed, made.value, "pier-2")
    assert (again.status_code, detail(again)) == (
        422, "This join token was used by pier-1. Each is good for one node: make a new one.",
    )  # fmt: skip
    world.expire_all()
    node = world.get(Node, "pier-1")
    assert node is not None
    assert node.labels == ["site=harbour"]
    kept = f"{node.model_dump()} {made.row.model_dump()}"
    assert told["credential"] not in kept
    assert made.value not in kept
    done = [one.action for one in world.exec(select(AuditEntry).where(AuditEntry.subject == "node pier-1"))]
    assert done == ["join"]


def test_what_stops_a_node_from_joining_is_said_to_it_and_where_the_token_was_made(
    feed: FlaskClient, world: Session
) -> None:
    joined(world, "pier-1")
    made = token(world)
    for name, said in (("pier-1", "There is, or was, a node called 'pier-1'"), ("Pier", "cannot be called 'Pier'")):
        answer = join(feed, made.value, name)
        assert answer.status_code == 422
        assert said in detail(answer)
        world.expire_all()
        assert said in made.row.steps[-1]["problem"]
    assert join(feed, made.value, "pier-2").status_code == 200


@pytest.mark.parametrize(
    ("shown", "status", "said"),
    [
        ("", 401, "Show a join token"),
        ("tmn_2222", 401, "Show a join token"),
        ("tmj_" + "x" * 200, 401, "Show a join token"),
        ("tmj_unknown", 422, "is not known here"),
    ],
)
def test_without_a_good_token_nobody_joins(feed: FlaskClient, shown: str, status: int, said: str) -> None:
    answer = join(feed, shown)
    assert answer.status_code == status
    assert said in detail(answer)


def test_a_token_is_over_after_an_hour_and_gone_when_it_was_withdrawn(feed: FlaskClient, world: Session) -> None:
    old, withdrawn = token(world), token(world)
    old.row.expires_at = now() - timedelta(seconds=1)
    joining.withdraw(world, COMMAND_LINE, withdrawn.row.id)
    world.commit()
    assert "more than an hour old" in detail(join(feed, old.value))
    assert "is not known here" in detail(join(feed, withdrawn.value))
    with pytest.raises(NotPossible):
        joining.withdraw(world, COMMAND_LINE, withdrawn.row.id)


def test_steps_are_told_in_words_and_bounded(feed: FlaskClient, world: Session) -> None:
    made = token(world)
    said = feed.post("/join/step", data={"step": "installed", "problem": "no\x00index\n"}, headers=bearer(made.value))
    assert said.status_code == 204
    assert feed.post("/join/step", json={"step": "flown"}, headers=bearer(made.value)).status_code == 422
    for _ in range(joining.MOST_STEPS + 5):
        feed.post("/join/step", json={"step": "prepared"}, headers=bearer(made.value))
    world.expire_all()
    row = world.get(JoinToken, made.row.id)
    assert row is not None
    assert len(row.steps) == joining.MOST_STEPS
    assert feed.post("/join/step", data=b"x" * 20_000, headers=bearer(made.value)).status_code == 413
    unbounded = {"wsgi.input_terminated": True}  # it does not say how long it is
    answer = feed.post(
        "/join/step", input_stream=io.BytesIO(b"x" * 20_000), headers=bearer(made.value), environ_overrides=unbounded
    )
    assert answer.status_code == 413


# following


@pytest.mark.parametrize("path", ["/feed?after=0&above=0", "/feed/report", "/feed/key-sets", "/feed/tokens",
                                  "/feed/credential", f"/feed/batches/{BATCH}"])  # fmt: skip
@pytest.mark.parametrize("shown", ["", "tmn_unknown", "tmj_2222"])
def test_only_a_node_that_joined_is_answered(feed: FlaskClient, path: str, shown: str) -> None:
    method = "GET" if "?" in path else "PUT" if "batches" in path else "POST"
    answer = feed.open(path, method=method, json={}, headers=bearer(shown))
    assert answer.status_code == 401
    assert "reason" not in (answer.json or {})


def test_a_revoked_node_is_refused_everything_and_told_why(feed: FlaskClient, world: Session) -> None:
    _, credential = joined(world)
    known_nodes.revoke(world, COMMAND_LINE, "pier-1")
    world.commit()
    for answer in (
        feed.get("/feed?after=0&above=0", headers=bearer(credential)),
        feed.post("/feed/report", json={}, headers=bearer(credential)),
        feed.put(f"/feed/batches/{BATCH}", data=b"[]", headers=bearer(credential)),
    ):
        assert (answer.status_code, (answer.json or {})["reason"]) == (403, "revoked")
    assert [node.name for node in known_nodes.nodes(world)] == []
    with pytest.raises(NotPossible):
        known_nodes.ask(world, COMMAND_LINE, "pier-1", "serving")


def test_a_new_credential_takes_the_olds_place_when_it_is_first_used(feed: FlaskClient, world: Session) -> None:
    _, old = joined(world)
    known_nodes.ask_for_new_credential(world, COMMAND_LINE, "pier-1")
    world.commit()
    ask = "/feed?after=0&above=0&wait=5"
    assert (feed.get(ask, headers=bearer(old)).json or {})["new_credential"] is True
    new = (feed.post("/feed/credential", headers=bearer(old)).json or {})["credential"]
    assert feed.get(ask, headers=bearer(old)).status_code == 200, "a node that lost the new one is not locked out"
    assert (feed.get(ask, headers=bearer(new)).json or {})["new_credential"] is False
    assert feed.get(ask, headers=bearer(old)).status_code == 401


@pytest.mark.parametrize("query", ["", "after=x&above=0", "after=-1&above=0", "after=0&above=99999999999",
                                   "after=0&above=0&standing=asleep"])  # fmt: skip
def test_a_look_that_cannot_be_is_refused_in_words(feed: FlaskClient, world: Session, query: str) -> None:
    _, credential = joined(world)
    assert feed.get(f"/feed?{query}", headers=bearer(credential)).status_code == 422


# handing in


def rows(node: str = "pier-1", environment: str = "production") -> list[Any]:
    return [list(Record(*([""] * 24))._replace(environment=environment, node=node, id="c1"))]


def put(feed: FlaskClient, credential: str, content: bytes, name: str = BATCH, **fields: str) -> TestResponse:
    return feed.put(f"/feed/batches/{name}", data=content, headers=bearer(credential) | fields)


def test_a_batch_is_kept_whole_for_the_worker_and_twice_is_once(
    feed: FlaskClient, world: Session, settings: Settings
) -> None:
    _, credential = joined(world)
    content = json.dumps(rows()).encode()
    for _ in range(2):
        assert put(feed, credential, gzip.compress(content), **{"Content-Encoding": "gzip"}).status_code == 204
    spool = settings.node_home("pier-1") / "spool"
    assert [path.name for path in spool.iterdir()] == [BATCH]
    assert (spool / BATCH).read_bytes() == content


@pytest.mark.parametrize(
    ("content", "name", "packed", "status", "said"),
    [
        (b"{", BATCH, False, 422, "is no JSON"),
        (json.dumps(rows("pier-2")).encode(), BATCH, False, 422, "row 1 is of pier-2 in production"),
        (json.dumps(rows(environment="test")).encode(), BATCH, False, 422, "this node is pier-1 in production"),
        (b"[]", "..%2f..%2fkeys", False, 404, ""),
        (b"[]", "keys.calls", False, 422, "is not the name of a batch"),
        (b"[]", BATCH, True, 422, "is not packed as gzip"),
        (gzip.compress(b"[]", mtime=0)[:-9], BATCH, True, 422, "is not whole"),
        (gzip.compress(b" " * 3_000, mtime=0), BATCH, True, 413, "holds at most 2,000 bytes"),
    ],
)
def test_a_batch_that_cannot_be_taken_is_refused_and_nothing_kept(
    feed: FlaskClient, world: Session, settings: Settings, monkeypatch: pytest.MonkeyPatch,
    content: bytes, name: str, packed: bool, status: int, said: str,
) -> None:  # fmt: skip
    monkeypatch.setattr(handing_in, "LARGEST", 2_000)
    _, credential = joined(world)
    answer = put(feed, credential, content, name, **({"Content-Encoding": "gzip"} if packed else {}))
    assert answer.status_code == status
    assert said in detail(answer)
    assert not list(settings.home.rglob("*.calls*"))


def test_a_database_that_is_away_is_a_503_and_not_a_refusal(settings: Settings) -> None:
    app = make_app(settings.model_copy(update={"database_url": "postgresql://nobody@127.0.0.1:9/none"}))
    answer = app.test_client().post("/feed/report", json={}, headers=bearer("tmn_22222222"))
    assert (answer.status_code, detail(answer)) == (503, "The database does not answer. Try again in a moment.")
