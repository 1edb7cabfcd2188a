"""The pages of nodes: how each stands, what it is asked to do, and how another one is added."""

from datetime import timedelta

import pytest
from flask.testing import FlaskClient
from sqlmodel import Session, select

from helpers import sign_in
from tamarack import __version__
from tamarack.settings import Settings
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.audit.tables import AuditEntry
from tamarack.store.columns import now
from tamarack.store.nodes import joining
from tamarack.store.nodes.tables import JoinToken, Node
from tamarack.store.rollouts import queries as rolling
from tamarack.web.application import NO_MORE


@pytest.fixture
def near(world: Session) -> Node:
    """A node that reads the database, and serves what runs."""
    running = rolling.running(world, "production")
    assert running is not None and running.number
    node = Node(
        name="production-1", environment="production", address="http://127.0.0.1:7402", rollout=running.number,
        version=__version__, calls_per_s=12.5, connections=42, memory_bytes=150_000_000, taken_up_at=now(),
    )  # fmt: skip
    world.add(node)
    world.commit()
    return node


@pytest.fixture
def far(world: Session) -> Node:
    """A node that joined."""
    node, _ = joining.join(world, joining.make_token(world, COMMAND_LINE, "production").value, "pier-1")
    world.commit()
    return node


def test_the_list_tells_how_each_node_stands(admin: FlaskClient, world: Session, near: Node) -> None:
    page = admin.get("/nodes").text
    for told in ("production-1", "serving", "12.5", "42", "150", "just now"):
        assert told in page
    assert "version" not in page
    near.version, near.clock_ms, near.problem = "0.0.9", 90_000.0, "rollout 9 cannot be read: schema version 9"
    near.labels, near.spool_bytes = ["site=harbour"], 5_000
    world.add(near)
    world.commit()
    page = admin.get("/nodes?part=rows").text
    for told in ("version 0.0.9", "its clock is 90", "ahead", "rollout 9 cannot be read", "site=harbour", "<table"):
        assert told in page
    assert "<html" not in page
    near.seen_at = now() - timedelta(minutes=3)
    world.add(near)
    world.commit()
    assert '<span class="state bad">away</span>' in admin.get("/nodes").text
    assert "not heard of for" in admin.get("/nodes/of/production-1").text


def test_a_node_is_asked_to_drain_stop_and_resume_and_the_audit_log_tells(
    admin: FlaskClient, world: Session, near: Node
) -> None:
    for standing, done in (("draining", "drain a node"), ("stopped", "stop a node"), ("serving", "resume a node")):
        page = admin.post("/nodes/of/production-1/ask", data={"standing": standing}, follow_redirects=True).text
        assert f"production-1 is asked to be {standing}" in page
        assert done in page
        world.expire_all()
        assert near.asked == standing
    assert "cannot be asked to be &#39;asleep&#39;" in (
        admin.post("/nodes/of/production-1/ask", data={"standing": "asleep"}, follow_redirects=True).text
    )


def test_what_a_node_is_called_is_kept_and_what_cannot_be_is_said_and_stays_in_the_form(
    admin: FlaskClient, world: Session, near: Node
) -> None:
    place = "/nodes/of/production-1/labels"
    admin.post(place, data={"title": "Harbour  quay", "labels": "rack=2, site=harbour"})
    world.expire_all()
    assert (near.title, near.labels) == ("Harbour quay", ["rack=2", "site=harbour"])
    assert "<h1>Harbour quay</h1>" in admin.get("/nodes/of/production-1").text
    page = admin.get("/nodes").text
    assert ("<b>Harbour quay</b>" in page, "<code>production-1</code>" in page) == (True, True)
    for wrong, words in (({"title": "Quay", "labels": "rack"}, "is no label"), ({"title": "x" * 61}, "has 61 characters"),
                         ({"title": "a\nb"}, "one line")):  # fmt: skip
        page = admin.post(place, data=wrong, follow_redirects=True).text
        assert words in page
        assert wrong["title"].split("\n")[0] in page
    world.expire_all()
    assert (near.title, near.labels) == ("Harbour quay", ["rack=2", "site=harbour"])


def test_a_joined_node_is_revoked_and_its_page_says_so(admin: FlaskClient, world: Session, far: Node) -> None:
    assert "asked to fetch a new credential" in (admin.post("/nodes/of/pier-1/credential", follow_redirects=True).text)
    page = admin.post("/nodes/of/pier-1/revoke", follow_redirects=True).text
    assert "pier-1 is revoked" in page
    assert "This node was revoked" in page
    assert "pier-1" not in admin.get("/nodes?part=rows").text
    assert "was revoked or forgotten meanwhile" in (
        admin.post("/nodes/of/pier-1/ask", data={"standing": "serving"}, follow_redirects=True).text
    )


def test_a_node_that_reads_the_database_is_not_revoked_but_forgotten_once_it_is_away(
    admin: FlaskClient, world: Session, near: Node
) -> None:
    for path, said in (
        ("revoke", "reads the database itself"),
        ("forget", "is running"),
        ("credential", "has no cred"),
    ):
        assert said in admin.post(f"/nodes/of/production-1/{path}", follow_redirects=True).text
    near.seen_at = now() - timedelta(minutes=1)
    world.add(near)
    world.commit()
    assert "production-1 is off the list" in admin.post("/nodes/of/production-1/forget", follow_redirects=True).text
    assert admin.get("/nodes/of/production-1").status_code == 404


def test_a_command_is_made_shown_and_its_steps_are_seen(admin: FlaskClient, world: Session, settings: Settings) -> None:
    page = admin.post("/nodes/new", data={"environment": "test", "labels": "site=harbour"}, follow_redirects=True)
    row = world.exec(select(JoinToken)).one()
    assert (row.environment, row.labels, row.made_by) == ("test", ["site=harbour"], "i.marsh@skerry.example")
    assert "curl -fsS -H" in page.text
    assert f"{settings.feed_url}/quick-start/node.sh" in page.text
    value = page.text.partition("Bearer ")[2].partition("&#39;")[0]
    assert joining.find_token(world, value).id == row.id
    place = f"/nodes/joining/{row.id}"
    joining.tell_step(world, value, "fetched")
    joining.tell_step(world, value, "installed", "no <index> is reached")
    world.commit()
    steps = admin.get(f"{place}?part=steps").text
    assert "The command was run" in steps
    assert "no &lt;index&gt; is reached" in steps
    node, _ = joining.join(world, value, "pier-1")
    node.version, node.rollout, node.taken_up_at = __version__, 1, now()
    world.commit()
    steps = admin.get(f"{place}?part=steps").text
    assert "It took up the rollout 1" in steps
    assert "pier-1 serves test" in steps
    used = admin.get(place).text
    assert value not in used, "a token that was used is not shown again"
    assert "Add another node" in used


def test_the_token_is_shown_to_who_made_it_alone(admin: FlaskClient, console: FlaskClient, world: Session) -> None:
    made = joining.make_token(world, COMMAND_LINE, "test")
    world.commit()
    page = admin.get(f"/nodes/joining/{made.row.id}").text
    assert made.value not in page
    assert "The command was shown when the token was made" in page
    assert "waits" in admin.get("/nodes").text
    assert "is good no longer" in (admin.post(f"/nodes/joining/{made.row.id}/withdraw", follow_redirects=True).text)
    assert admin.get(f"/nodes/joining/{made.row.id}").status_code == 404
    looked_at = admin.get(f"/nodes/joining/{made.row.id}?part=steps", headers={"HX-Request": "true"})
    assert looked_at.status_code == NO_MORE, "a page that was open meanwhile asks no more"
    assert "There is no such join token; it was withdrawn." in looked_at.text


@pytest.mark.parametrize(
    ("typed", "said"),
    [
        ({"environment": "moon", "labels": "a=b"}, "is not an environment"),
        ({"environment": "test", "labels": "harbour"}, "is no label"),
    ],
)
def test_what_cannot_be_a_token_is_said_and_what_was_typed_stays(
    admin: FlaskClient, world: Session, typed: dict[str, str], said: str
) -> None:
    page = admin.post("/nodes/new", data=typed)
    assert page.status_code == 422
    assert said in page.text
    assert f'value="{typed["labels"]}"' in page.text
    assert world.exec(select(JoinToken)).first() is None
    assert world.exec(select(AuditEntry).where(AuditEntry.action == "make a join token")).first() is None


def test_only_who_may_see_to_nodes_may_ask_them_anything(console: FlaskClient, world: Session, far: Node) -> None:
    sign_in(console, "o.reed@skerry.example", "spruce-ink-17")
    assert "Add a node" not in console.get("/nodes").text
    assert "Revoke" not in console.get("/nodes/of/pier-1").text
    assert console.get("/nodes/new").status_code == 403
    for path in ("ask", "labels", "credential", "revoke", "forget"):
        assert console.post(f"/nodes/of/pier-1/{path}", data={"standing": "stopped"}).status_code == 403
    world.expire_all()
    assert (far.asked, far.revoked_at) == ("serving", None)
