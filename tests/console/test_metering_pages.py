"""Metering in the console: limits with their layers, live counters, a limit tried, plans and what they do."""

import re
import time
from collections.abc import Iterator
from typing import Any

import pytest
from flask.testing import FlaskClient
from sqlmodel import Session, select

from gateway.harness import Node, running
from gateway.test_carry import answering
from gateway.test_metering import metered
from helpers import sign_in
from store.test_metering_store import calls, moment, planner, subscription_of  # noqa: F401 - a fixture
from tamarack.console.limits import asking_nodes
from tamarack.gateway.upstream.scripted import ScriptedUpstream
from tamarack.settings import Settings
from tamarack.store.applications.tables import Application, Subscription
from tamarack.store.audit.tables import AuditEntry
from tamarack.store.columns import now
from tamarack.store.draft import queries as drafting
from tamarack.store.nodes.tables import Node as NodeRow
from tamarack.store.quotas import queries as quotas

PLAN = {"old_name": "skiff", "name": "skiff", "title": "Skiff", "approval": "automatic", "limits": "5 per second",
        "currency": "EUR"}  # fmt: skip


def audited(session: Session) -> list[str]:
    session.expire_all()
    return [entry.action for entry in session.exec(select(AuditEntry))]


def test_all_limits_are_on_one_page_with_their_layers_and_the_ones_that_fight(admin: FlaskClient) -> None:
    page = admin.get("/limits/").text
    for words in ("all of production", "400 / s, burst 800".replace(" / ", "\u00a0/\u00a0"), "Cutter of Passage, fares post /quotes",
                  "can never reach 20 per second: 10 per second of ‘steady’ (Berths 1) is met first", "quota"):  # fmt: skip
        assert words in page, words


def test_a_cap_is_set_checked_removed_and_undone(admin: FlaskClient, world: Session) -> None:
    wrong = admin.post("/limits/cap", data={"cap": "fast"})
    assert wrong.status_code == 422
    assert "is not a limit" in wrong.text
    assert ">fast</textarea>" in wrong.text
    set_ = admin.post("/limits/cap", data={"cap": "90 per second\n900 per minute"}, follow_redirects=True)
    assert "The cap of production is 90 per second, 900 per minute in the draft" in set_.text
    assert "cap of production" in admin.get("/review").text
    admin.post("/limits/cap", data={"cap": ""})
    world.expire_all()
    assert drafting.load_configuration(world).cap("production") is None
    assert drafting.load_configuration(world).cap("test") is not None


def test_an_analyst_may_look_but_not_set(console: FlaskClient, world: Session) -> None:
    sign_in(console, "s.heath@skerry.example", "lichen-grey-23")
    assert console.get("/limits/").status_code == 200
    assert console.post("/limits/cap", data={"cap": ""}).status_code == 403


@pytest.fixture
def node(world: Session, settings: Settings, monkeypatch: pytest.MonkeyPatch) -> Iterator[Node]:
    """A running node that the console knows of."""
    monkeypatch.setattr(asking_nodes, "_key", lambda: bytes(32))
    made = metered({"kind": "rate-limit", "name": "live", "windows": ["5 per day"]})
    with running(made, ScriptedUpstream(answering)) as one:
        world.add(NodeRow(name="n1", environment="production", address=f"http://127.0.0.1:{one.port}",
                          counting="by itself", seen_at=now(), started_at=now()))  # fmt: skip
        world.commit()
        yield one


def test_live_counters_are_listed_searched_and_cleared(admin: FlaskClient, world: Session, node: Node) -> None:
    assert "Nothing is being counted" in admin.get("/limits/live").text
    for _ in range(3):
        node.get("/sailings/v2/sailings")
    page = admin.get("/limits/live").text
    assert "sailings/2/live" in page
    assert "n1 counts by itself" in page
    assert re.search(r'<td class="num">3</td>\s*<td class="num">5</td>', page)
    assert "Nothing that matches" in admin.get("/limits/live?search=nobody").text
    cleared = admin.post("/limits/live/clear", data={"id": "sailings/2/live", "key": "a"}, follow_redirects=True)
    assert "is reset" in cleared.text
    assert "Nothing is being counted" in admin.get("/limits/live").text
    assert "clear counter" in audited(world)


def test_a_node_that_does_not_answer_is_said(admin: FlaskClient, world: Session) -> None:
    assert "no node of production runs" in admin.get("/limits/live").text
    world.add(NodeRow(name="production-9", environment="production", address="http://127.0.0.1:9", seen_at=now(),
                      started_at=now()))  # fmt: skip
    world.commit()
    assert "production-9 gave no answer" in admin.get("/limits/live").text
    assert "Not cleared everywhere" in admin.post("/limits/live/clear", data={"id": "x"}, follow_redirects=True).text


@pytest.mark.parametrize(
    ("query", "words"),
    [
        ("", ["left of 5 per second, burst 20", "let in at once"]),
        ("algorithm=sliding&rate=10&per=minute&pattern=bursts&many=30&every=30", ["left of 10 per minute, sliding"]),
        ("also=30 per minute; 100 per hour", ["left of 30 per minute", "left of 100 per hour", "100 %"]),
        ("hold=2000", ["for up to"]),
        ("rate=fast", ["is not a limit", "Mend what is marked"]),
        ("burst=0", ["burst"]),
        ("hold=-5", ["give a whole number from 0 to 30,000"]),
        ("every=0", ["give a whole number from 1"]),
        ("arrive=x", ["give a number from 0"]),
        ("pattern=a caller's calls", ["choose the caller"]),
        ("pattern=a caller's calls&caller=tern-trips/nobody&at=yesterday", ["is not a time"]),
    ],
)
def test_a_limit_is_tried_before_it_is_set(admin: FlaskClient, query: str, words: list[str]) -> None:
    page = admin.get(f"/limits/try?{query}")
    assert page.status_code == 200
    for one in words:
        assert one in page.text, one


def test_real_calls_are_tried_with_advice(admin: FlaskClient, world: Session, settings: Settings) -> None:
    calls(world, settings, [moment() + one / 1000 for one in range(40)])
    where = "/limits/try?pattern=a caller's calls&caller=tern-trips/island-planner&span=10 minutes&rate=1&burst=30"
    page = admin.get(where).text
    assert "Its busiest stretch" in page
    assert "<span>40<small>100 %</small></span>" in page  # all at once: a burst of forty
    assert "<span>20<small>50 %</small></span>" in page
    assert '<dd class="bad">10<small>' in page
    peaks = admin.get("/limits/peaks").text
    assert "island-planner" in peaks
    assert '<td class="num">40</td>' in peaks


def test_a_plan_shows_its_price_and_what_it_does_to_its_subscribers(
    admin: FlaskClient,
    world: Session,
    settings: Settings,
    planner: Application,  # noqa: F811
) -> None:
    calls(world, settings, [moment() + one / 1000 for one in range(40)])
    checked = admin.post("/plans/passage/plan", data=PLAN | {
        "act": "check", "limits": "15 per minute", "price_monthly": "9,90", "price_per_thousand": "0.5",
        "costs": "yes"}).text  # fmt: skip
    assert "1 is above it now" in checked
    assert "9.9 EUR a month, then 0.5 EUR per thousand" in checked
    assert "59.90 EUR" in checked
    wrong = {"parts": "fares: soon", "quota_time_zone": "Europe/Atlantis", "price_monthly": "much", "quota_calls": "x",
             "currency": "euro", "costs": "yes", "has_quota": "yes"}  # fmt: skip
    refused = admin.post("/plans/passage/plan", data=PLAN | wrong)
    assert refused.status_code == 422
    for value in wrong.values():
        assert value in refused.text
    assert "does not package" in admin.post("/plans/passage/plan", data=PLAN | {"parts": "berths: 1 per second"}).text
    saved = PLAN | {"quota_calls": "", "parts": "fares: 5 per second, burst 9", "price_monthly": "9.90", "costs": "yes"}
    assert admin.post("/plans/passage/plan", data=saved).status_code == 303
    world.expire_all()
    product = drafting.load_configuration(world).product("passage")
    assert product is not None
    kept = product.plan("skiff")
    assert kept is not None
    assert (kept.quota, [str(part) for part in kept.parts]) == (None, ["fares: 5 per second, burst 9"])
    assert ">fares post /quotes: 5 per second</button>" in admin.get("/plans/passage/plan?name=skiff").text
    compared = admin.get("/plans/passage/compare").text
    for words in ("9.9 EUR", "fares 5", "650 EUR", "10\u202f000\u202f000 a month from the start"):
        assert words in compared, words


def test_staff_change_a_plan_and_a_quota_from_the_application(
    admin: FlaskClient,
    world: Session,
    planner: Application,  # noqa: F811
) -> None:
    one = subscription_of(world, planner)
    where = f"/subscribers/applications/{planner.id}/subscriptions/{one.id}"

    def post(path: str, **data: str) -> str:
        return admin.post(f"{where}/{path}", data=data, follow_redirects=True).text

    assert "changes to cutter on" in post("plan", plan="cutter", when="period end")
    assert "stays on skiff" in post("plan", act="keep")
    assert "is on liner now" in post("plan", plan="liner")
    assert "is not offered here" in post("plan", plan="barge")
    assert "500 calls are granted" in post("quota", act="extend", calls="500", reason="fair")
    assert "is not a number of calls" in post("quota", act="extend", calls="some")
    assert "is reset" in post("quota", act="reset")
    assert {"change plan later", "keep plan", "change plan", "extend quota", "reset quota"} <= set(audited(world))
    elsewhere = admin.post(where.replace(one.id, "x") + "/plan", data={"plan": "cutter"})
    assert (elsewhere.status_code, "no such subscription" in elsewhere.text) == (404, True)


def test_people_compare_and_change_plans_and_see_their_use_and_notices(
    portal: FlaskClient,
    admin: FlaskClient,
    world: Session,
    planner: Application,  # noqa: F811
) -> None:
    sign_in(portal, "m.tern@tern-trips.example", "island-hopper-52")
    one = subscription_of(world, planner)
    plan = quotas.plan_of(world, one)
    used = quotas.use_of(world, one, plan)
    assert used is not None
    stretch = used[1]
    quotas.take_in_use(world, "b", "n", [("production", "@quota/passage", one.id, stretch.start, stretch.end,
                                          stretch.limit, 33_000)])  # fmt: skip
    world.commit()
    page = portal.get(f"/applications/{planner.id}").text
    assert "33.0" in page
    assert "has used 80 % of its quota" in page
    where = f"/applications/{planner.id}/subscriptions/{one.id}/plan"
    table = portal.get(where).text
    assert "Ask for it" in table
    assert "your plan" in table

    def post(**data: str) -> str:
        return portal.post(where, data=data, follow_redirects=True).text

    assert "The plan changes on" in post(plan="cutter", when="period end")
    assert "stays on skiff" in post(act="keep")
    assert "platform team is asked" in post(plan="liner")
    assert "instead of skiff" in admin.get("/subscribers/requests/").text
    admin.post(f"/subscribers/applications/{planner.id}/subscriptions/{one.id}/plan", data={"plan": "liner"})
    world.expire_all()
    assert _plan(world, one) == "liner"
    assert "The plan is changed" in post(plan="cutter", when="now")
    assert "is not offered here" in post(plan="barge")
    sign_in(portal, "r.crate@kelp-crate.example", "manifest-box-75")
    assert portal.get(where).status_code == 404
    assert portal.post(where, data={"plan": "skiff"}).status_code == 404


def _plan(session: Session, one: Subscription) -> Any:
    kept = session.get(Subscription, one.id)
    return kept.plan if kept is not None else None


def test_a_request_is_good_for_seconds_and_for_its_environment_only() -> None:
    from tamarack.core.trying.node_request import LIVES_S, NodeRequest, read_request, write_request

    at, key = time.time(), bytes(32)
    sealed = write_request(NodeRequest("production", at, search="ä"), key).encode()
    assert read_request(sealed, key, "production", at) == NodeRequest("production", at, search="ä")
    for wrong in ((sealed, key, "test", at), (sealed, key, "production", at + LIVES_S), (sealed, bytes(31) + b"1", "production", at),
                  (sealed[:-3] + b"AA=", key, "production", at), (b"", key, "production", at), (b"x.y", key, "production", at)):  # fmt: skip
        assert read_request(*wrong) is None
