"""What caches keep, looked at and purged; answers of mocks, typed and checked; how targets stand."""

import re
from collections.abc import Iterator
from datetime import timedelta

import pytest
from flask.testing import FlaskClient
from sqlmodel import Session, select

from gateway.harness import Node, running
from gateway.test_cache import FRESH, PATH, Cached
from helpers import sign_in
from tamarack.console.limits import asking_nodes
from tamarack.core.configuration.snapshot import compile_snapshot
from tamarack.core.openapi.read import describe
from tamarack.store.applications import changes as subscribing
from tamarack.store.applications import queries as subscribers
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.columns import now
from tamarack.store.documents import queries as documents
from tamarack.store.draft import queries as drafting
from tamarack.store.nodes.tables import Node as NodeRow
from tamarack.store.rollouts import queries as rolling
from tamarack.store.rollouts.tables import FeedItem, TargetChange

CACHE = "sailings/2/response-cache"
ANSWERS = "/apis/freight-bookings/2/answers"


@pytest.fixture
def node(world: Session, monkeypatch: pytest.MonkeyPatch) -> Iterator[Node]:
    """A node that keeps answers under the policy that the demo's Sailings has."""
    monkeypatch.setattr(asking_nodes, "_key", lambda: bytes(32))
    cached = Cached(FRESH, whose="the same for all callers")
    with running(cached.made, cached.upstream) as one:
        world.add(NodeRow(name="n1", environment="production", address=f"http://127.0.0.1:{one.port}",
                          seen_at=now(), started_at=now()))  # fmt: skip
        world.commit()
        yield one


def test_kept_answers_are_listed_searched_and_forgotten_on_all_nodes(
    admin: FlaskClient, world: Session, node: Node
) -> None:
    for query in ("from=corran", "from=corran", "from=eskholm"):
        node.get(f"{PATH}?{query}")
    overview = admin.get("/kept/").text
    assert 'href="/kept/policy?policy=sailings/2/response-cache"' in overview
    page = admin.get(f"/kept/policy?policy={CACHE}").text
    assert "GET http://gateway.example/sailings/v2/sailings?from=corran" in page
    assert '<b class="fig">2</b>' in page
    found = admin.get(f"/kept/policy?policy={CACHE}&search=eskholm").text
    assert ("from=eskholm" in found, "from=corran" in found) == (True, False)
    key = "GET http://gateway.example/sailings/v2/sailings?from=corran"
    for form, words in (
        ({"how": "one", "key": key}, "forget the answer"),
        ({"how": "prefix", "key": "GET http://gateway.example/"}, "forget what begins with"),
        ({"how": "all"}, "forget all of it"),
        ({"how": "one", "key": ""}, "Say which answers to forget"),
        ({"how": "some", "key": key}, "Say which answers to forget"),
    ):
        assert words in admin.post("/kept/purge", data={"policy": CACHE, **form}, follow_redirects=True).text
    asked = [item.body for item in world.exec(select(FeedItem).where(FeedItem.kind == "purge").order_by(FeedItem.seq))]  # type: ignore[arg-type]
    assert [(one["prefix"], one["exact"]) for one in asked if one is not None][-3:] == [
        (key, True), ("GET http://gateway.example/", False), ("", False),
    ]  # fmt: skip
    assert admin.get("/kept/policy?policy=nothing").status_code == 404


def test_support_may_look_at_what_is_kept_but_not_make_nodes_forget(console: FlaskClient, world: Session) -> None:
    sign_in(console, "s.heath@skerry.example", "lichen-grey-23")
    page = console.get(f"/kept/policy?policy={CACHE}").text
    assert "Forget all of it" not in page
    assert console.post("/kept/purge", data={"policy": CACHE, "how": "all"}).status_code == 403


def test_documented_answers_are_shown_side_by_side_and_one_is_typed_in_place(
    admin: FlaskClient, world: Session
) -> None:
    call = "post /bookings"
    page = admin.get(f"{ANSWERS}/?operation={call}").text
    assert page.count('<article class="answer">') == 3
    assert "an example of the description" in page
    typed = {"operation": call, "status": "409", "media": "application/problem+json", "name": "", "body": "{}"}
    assert "&#34;title&#34; is a required property" in admin.post(f"{ANSWERS}/check", data=typed).text
    fits = typed | {"body": '{"title": "Full"}'}
    assert "It fits the schema." in admin.post(f"{ANSWERS}/check", data=fits).text
    assert "has no schema" in admin.post(f"{ANSWERS}/check", data=fits | {"status": "418"}).text
    assert admin.post(f"{ANSWERS}/save", data=fits).status_code == 303
    page = admin.get(f"{ANSWERS}/?operation={call}").text
    assert ("typed here" in page, page.count('<article class="answer">')) == (True, 3)
    again = admin.post(f"{ANSWERS}/save", data=fits | {"status": "99", "body": "kept words"})
    assert (again.status_code, "kept words" in again.text, "status: " in again.text) == (422, True, True)
    world.expire_all()
    draft = drafting.load_configuration(world)
    snapshot = compile_snapshot(draft, "production", lambda sha256: documents.document_tree(world, sha256))
    version = next(one for one in snapshot.versions if one.api == "freight-bookings")
    operation = next(one for one in version.operations if one.method == "post")
    assert [(one.status, one.origin, one.body) for one in operation.answers if one.status == 409] == [
        (409, "typed", '{"title": "Full"}')
    ]
    assert admin.post(f"{ANSWERS}/remove", data=fits, follow_redirects=True).text.count("typed here") == 0
    assert "not one that was typed here" in admin.post(f"{ANSWERS}/remove", data=fits, follow_redirects=True).text


def test_a_rollout_makes_the_answers_of_mocks(world: Session) -> None:
    running_now = rolling.running(world, "production")
    assert running_now is not None
    versions = {one["api"]: one for one in running_now.snapshot["versions"] if one["api"] != "sailings"}
    operations = {f"{one['method']} {one['path']}": one for one in versions["freight-bookings"]["operations"]}
    assert [answer["status"] for answer in operations["post /bookings"]["answers"]] == [201, 201, 409]
    assert all(not one["answers"] for one in versions["fares"]["operations"])


def test_explain_says_that_a_call_to_a_mock_passes(admin: FlaskClient, world: Session) -> None:
    owner = subscribers.organization_named(world, "kelp-and-crate")
    assert owner is not None
    application = subscribing.make_application(world, COMMAND_LINE, owner, "Manifest Sync")
    offered = drafting.load_configuration(world)
    subscribing.subscribe(world, COMMAND_LINE, offered, application, "freight", "skiff", "production")
    world.commit()
    page = admin.get(f"/apis/freight-bookings/2/explain/?operation=get+/bookings&application={application.id}").text
    assert "answered 200" in page
    assert "What to do" not in page


def test_a_document_is_brought_in_with_mocks_in_place_of_a_backend(admin: FlaskClient, world: Session) -> None:
    text = (
        "openapi: 3.1.0\ninfo: {title: Ferry Quiz, version: 1.0.0}\npaths:\n  /questions:\n    get:\n      responses:\n"
        "        '200': {description: some, content: {application/json: {example: [1]}}}\n"
    )
    sha256 = documents.ask(world, text)
    world.commit()
    documents.take_in(world, sha256, describe(text))
    world.commit()
    page = admin.get(f"/apis/new/{sha256}").text
    assert "none yet: answer from the description" in page
    names = {"title": "Ferry Quiz", "name": "ferry-quiz", "version": "1", "base_path": "/quiz/v1", "backend": "@mock",
             "address": "", "summary": "", "owner": ""}  # fmt: skip
    saved = admin.post(f"/apis/new/{sha256}", data=names)
    assert saved.status_code == 303, saved.text
    page = admin.get("/apis/ferry-quiz/1/").text
    assert "No backend" in page
    assert "Answers are made from the description" in page


def test_a_backends_page_shows_how_its_targets_stand_and_stood(admin: FlaskClient, world: Session) -> None:
    assert "How its targets stand" not in admin.get("/backends/positions").text
    state = {"backend": "positions", "target": "127.0.0.1:7422", "state": "open", "why": "3 calls in a row failed",
             "under_way": 2}  # fmt: skip
    world.add(NodeRow(name="production-1", environment="production", address="http://127.0.0.1:9", targets=[state],
                      seen_at=now(), started_at=now() - timedelta(hours=8)))  # fmt: skip
    for minutes, name in ((90, "open"), (60, "half-open"), (59, "well"), (5, "open")):
        world.add(TargetChange(at=now() - timedelta(minutes=minutes), environment="production", node="production-1",
                               backend="positions", target="127.0.0.1:7422", state=name, why="because"))  # fmt: skip
    world.commit()
    page = admin.get("/backends/positions").text
    assert re.search(r'<b class="bad">open</b>\s*<span class="soft">3 calls in a row failed', page)
    assert re.findall(r'class="is-([a-z-]+)"', page) == ["well", "open", "half-open", "well", "open"]
    assert page.count("because") >= 4
    assert "How its targets stand" in admin.get("/backends/positions/standing").text


def test_a_backends_form_takes_all_of_targets_breaker_and_checks_and_keeps_what_is_wrong(
    admin: FlaskClient, world: Session
) -> None:
    form = {
        "targets": "http://127.0.0.1:1 production weight 3\nhttp://127.0.0.1:2 priority 2", "connect_timeout_ms": "500",
        "read_timeout_ms": "900", "sharing": "to the fewest calls under way", "same_for": "the same value of a header",
        "same_header": "X-Ship", "sign_in": "none", "breaker": "yes", "breaker_in_a_row": "4", "breaker_share": "25",
        "breaker_at_least": "9", "breaker_within_s": "8", "breaker_open_s": "7", "breaker_trial_calls": "3",
        "health": "yes", "health_path": "/health", "health_every_s": "4", "health_within_ms": "900",
        "health_statuses": "200, 204", "health_unwell_after": "3", "health_well_after": "1", "revision": "1",
    }  # fmt: skip
    wrong = admin.post("/backends/positions", data=form | {"breaker_share": "101", "health_path": "health",
                                                           "targets": "http://127.0.0.1:1 weight none"})  # fmt: skip
    assert wrong.status_code == 422
    assert "&#39;health&#39; is not a path" in wrong.text
    assert "line 1: weight: " in wrong.text
    assert 'value="101"' in wrong.text
    assert admin.post("/backends/positions", data=form).status_code == 303
    world.expire_all()
    made = drafting.load_configuration(world).backend("positions")
    assert made is not None and made.breaker is not None and made.health is not None
    assert [(t.weight, t.priority, t.environments) for t in made.targets] == [(3, 0, ("production",)), (1, 2, ())]
    assert (made.sharing, made.same_header) == ("to the fewest calls under way", "x-ship")
    assert (made.breaker.in_a_row, made.breaker.heed_retry_after) == (4, False)
    assert (made.health.statuses, made.health.path) == ((200, 204), "/health")
    page = admin.get("/backends/positions").text
    assert "http://127.0.0.1:1 production weight 3\nhttp://127.0.0.1:2 priority 2" in page
