"""Statements in the console: what was used adds up to the calls, is priced, adjusted, issued, and then stays."""

import csv
import io
from datetime import datetime, timedelta
from decimal import Decimal

import psycopg
import pytest
from flask.testing import FlaskClient
from sqlalchemy import text
from sqlmodel import Session, select

from core.traffic.test_traffic import record
from helpers import sign_in
from tamarack.demo.world import ORGANIZATIONS
from tamarack.settings import Settings
from tamarack.store.applications import changes as subscribing
from tamarack.store.applications import queries as subscribers
from tamarack.store.applications.tables import Subscription
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.columns import now
from tamarack.store.people.tables import Organization
from tamarack.store.rollouts import queries as rolling
from tamarack.store.statements import queries as stating
from tamarack.store.statements.tables import SubscriptionPeriod
from tamarack.store.traffic.recording import Batch, take_in

_THIS = now().replace(day=1, hour=0, minute=0, second=0, microsecond=0)
_LAST = (_THIS - timedelta(days=1)).replace(day=1)
MONTH = f"{_LAST:%Y-%m}"
INDEX = "/traffic/statements/"
WHERE = f"{INDEX}tern-trips/{MONTH}/"


@pytest.fixture
def used(settings: Settings, world: Session) -> int:
    """Last month Tern Trips called 4,020 times; others, other months and the test environment do not count."""
    calls = []

    def put(many: int, at: datetime, **fields: object) -> None:
        values = {"environment": "production", "organization": "tern-trips", "application": "island-planner", "api": "sailings",
                  "plan": "passage/cutter", "target": "t"} | fields  # fmt: skip
        base = int(at.timestamp() * 1e6)
        calls.extend(record(base + place * 500_000, id=f"{len(calls) + place:024x}", **values) for place in range(many))

    put(2500, _LAST + timedelta(days=3))
    put(1000, _LAST + timedelta(days=4), api="fares", prompt_tokens=2, completion_tokens=3)
    put(400, _LAST + timedelta(days=5), status=429, reason="over-plan")
    put(100, _THIS - timedelta(minutes=1), status=502, reason="backend-away")
    put(20, _LAST, application="", plan="", status=401, reason="revoked-credential")
    put(50, _LAST + timedelta(days=6), environment="test")
    put(60, _LAST + timedelta(days=6), organization="kelp-and-crate")
    put(70, _THIS)
    put(80, _LAST - timedelta(seconds=60))
    with psycopg.connect(settings.database, autocommit=True) as connection:
        take_in(connection, [Batch("b", "n", calls)])
    owner = subscribers.organization_named(world, "tern-trips")
    assert owner is not None
    application = subscribing.make_application(world, COMMAND_LINE, owner, "Island Planner", "")
    offered = rolling.running_configuration(world, "production")
    subscribing.subscribe(world, COMMAND_LINE, offered, application, "passage", "cutter", "production")
    for period in world.exec(select(SubscriptionPeriod)):
        period.first = _LAST - timedelta(days=10)
        world.add(period)
    world.commit()
    return 4020


def test_a_statement_adds_up_to_the_calls_to_the_last_one(admin: FlaskClient, used: int, world: Session) -> None:
    body = admin.get(f"{WHERE}statement.json").json
    assert body is not None
    recorded = world.connection().execute(
        text("SELECT count(*) FROM call WHERE organization = 'tern-trips' AND environment = 'production' AND at >= :first AND at < :last"),
        {"first": _LAST, "last": _THIS},
    ).scalar_one()  # fmt: skip
    assert sum(one["calls"] for one in body["uses"]) == body["calls"] == recorded == used
    assert body["charged_calls"] == 3500
    assert body["tokens"] == 5000
    (cost,) = body["costs"]
    assert (cost["application"], cost["plan"], cost["days"]) == (
        "island-planner",
        "passage/cutter",
        (_THIS - _LAST).days,
    )
    assert body["totals"] == {"EUR": "40.00"}
    rows = list(csv.DictReader(io.StringIO(admin.get(f"{WHERE}statement.csv").text)))
    assert sum(int(row["calls"]) for row in rows if row["kind"] == "use") == used
    assert [row["amount"] for row in rows if row["kind"] == "total"] == ["40.00"]
    page = admin.get(WHERE).text
    assert "40.00 EUR" in page
    assert "the month is over; not issued yet" in page
    assert "Tern Trips" in admin.get(f"{INDEX}?month={MONTH}").text


def test_it_is_adjusted_issued_and_then_stays(admin: FlaskClient, used: int, world: Session) -> None:
    for amount, currency, words in (
        ("", "EUR", "x"),
        ("0", "EUR", "x"),
        ("1", "euro", "x"),
        ("1", "EUR", ""),
        ("1.2345", "EUR", "x"),
    ):
        data = {"amount": amount, "currency": currency, "words": words}
        answer = admin.post(f"{WHERE}adjust", data=data, follow_redirects=True).text
        assert any(said in answer for said in ("is not an amount", "is not a currency", "Say what"))
    admin.post(f"{WHERE}adjust", data={"amount": "-12,50", "currency": "EUR", "words": "Outage, agreed"})
    admin.post(f"{WHERE}adjust", data={"amount": "7", "currency": "EUR", "words": "by mistake"})
    (kept, mistaken) = stating.adjustments(world, subscribers.organization_named(world, "tern-trips"), MONTH)  # type: ignore[arg-type]
    assert kept.amount == Decimal("-12.5")
    admin.post(f"{WHERE}take-back/{mistaken.id}")
    assert "27.50 EUR" in admin.get(WHERE).text
    assert "is issued, and can no longer be changed" in admin.post(f"{WHERE}issue", follow_redirects=True).text
    before = admin.get(f"{WHERE}statement.json").json
    assert before is not None
    assert before["totals"] == {"EUR": "27.50"}
    assert "issued by i.marsh@skerry.example" in admin.get(WHERE).text
    assert (
        "adjust the month after it"
        in admin.post(
            f"{WHERE}adjust", data={"amount": "1", "currency": "EUR", "words": "x"}, follow_redirects=True
        ).text
    )
    assert "was issued already" in admin.post(f"{WHERE}issue", follow_redirects=True).text
    assert "was issued" in admin.post(f"{WHERE}take-back/{kept.id}", follow_redirects=True).text
    world.connection().execute(text("DELETE FROM rollup_day"))
    world.connection().execute(text("DELETE FROM rollup_hour"))
    world.commit()
    assert admin.get(f"{WHERE}statement.json").json == before
    assert "-12.5" in admin.get(f"{WHERE}statement.csv").text


def test_a_running_month_is_not_issued_and_unknown_ones_are_not_there(admin: FlaskClient, used: int) -> None:
    running = f"{INDEX}tern-trips/{_THIS:%Y-%m}/"
    assert "the month is running" in admin.get(running).text
    assert "is not over" in admin.post(f"{running}issue", follow_redirects=True).text
    assert admin.get("/traffic/statements/tern-trips/november/").status_code == 404
    assert admin.get(f"{INDEX}nobody/{MONTH}/").status_code == 404
    assert admin.get("/traffic/statements/?month=november").status_code == 404


def test_all_of_a_month_is_issued_at_once_but_for_what_somebody_has_to_look_at(
    admin: FlaskClient, used: int, world: Session
) -> None:
    assert "Issue all" in admin.get(f"{INDEX}?month={MONTH}").text
    gone = subscribers.organization_named(world, "kelp-and-crate")
    assert gone is not None
    application = subscribing.make_application(world, COMMAND_LINE, gone, "Crate Counter", "")
    offered = rolling.running_configuration(world, "production")
    made = subscribing.subscribe(world, COMMAND_LINE, offered, application, "passage", "skiff", "production")
    (period,) = world.exec(select(SubscriptionPeriod).where(SubscriptionPeriod.subscription_id == made.id))
    period.first, period.plan = _LAST, "of-old"  # a plan that is offered no more
    world.add(period)
    world.commit()
    said = admin.post(f"{INDEX}{MONTH}/issue-all", follow_redirects=True).text
    assert f"1 statement of {MONTH} is issued, and can no longer be changed." in said
    assert "since a plan has no price any more: Kelp &amp; Crate Freight." in said
    assert admin.get(f"{WHERE}statement.json").json["totals"] == {"EUR": "40.00"}  # type: ignore[index]
    rows = list(csv.DictReader(io.StringIO(admin.get(f"{INDEX}{MONTH}/statements.csv").text)))
    states = {row["organization"]: row["state"] for row in rows}
    assert (states["tern-trips"], states["kelp-and-crate"]) == ("issued", "to be issued")
    mine = [row for row in rows if row["organization"] == "tern-trips" and row["kind"] == "use"]
    assert sum(int(row["calls"]) for row in mine) == used
    again = admin.post(f"{INDEX}{MONTH}/issue-all", follow_redirects=True).text
    assert f"There was nothing to issue of {MONTH}." in again
    running = f"{INDEX}{_THIS:%Y-%m}/issue-all"
    assert "is not over" in admin.post(running, follow_redirects=True).text
    assert "Issue all" not in admin.get(f"{INDEX}?month={_THIS:%Y-%m}").text


def test_the_list_of_statements_is_searched_and_comes_page_by_page(
    admin: FlaskClient, used: int, world: Session
) -> None:
    world.add_all(Organization(name=f"quay-{n}", title=f"Quay {n:03}", kind="partner") for n in range(60))
    world.commit()
    assert f'of <span class="fig">{60 + len(ORGANIZATIONS)}</span>' in admin.get(INDEX).text.replace("\n", "")
    found = admin.get(f"{INDEX}?month={MONTH}&search=quay+007").text
    assert "Quay 007" in found
    assert "Tern Trips" not in found
    assert "nothing used" in found
    assert "No organization matches." in admin.get(f"{INDEX}?month={MONTH}&search=nowhere").text
    everybody = csv.DictReader(io.StringIO(admin.get(f"{INDEX}{MONTH}/statements.csv").text))
    assert len({row["organization"] for row in everybody}) == 60 + len(ORGANIZATIONS)


def test_who_may_only_see_adjusts_and_issues_nothing(console: FlaskClient, used: int, world: Session) -> None:
    from tamarack.store.people.staff import Staff

    member = world.exec(select(Staff).where(Staff.email == "s.heath@skerry.example")).one()
    member.role = "analyst"
    world.add(member)
    world.commit()
    sign_in(console, "s.heath@skerry.example", "lichen-grey-23")
    assert "Adjust" not in console.get(WHERE).text
    assert "Issue all" not in console.get(f"{INDEX}?month={MONTH}").text
    for address in (*(f"{WHERE}{one}" for one in ("adjust", "issue", "take-back/1")), f"{INDEX}{MONTH}/issue-all"):
        assert console.post(address).status_code == 403


def test_days_are_those_on_which_a_plan_was_in_force(world: Session) -> None:
    owner = subscribers.organization_named(world, "tern-trips")
    assert owner is not None
    application = subscribing.make_application(world, COMMAND_LINE, owner, "Island Planner", "")
    offered = rolling.running_configuration(world, "production")
    made = subscribing.subscribe(world, COMMAND_LINE, offered, application, "passage", "skiff", "production")
    subscribing.change_plan(world, COMMAND_LINE, offered, made, "cutter")
    subscribing.set_subscription_state(world, COMMAND_LINE, made, "paused")
    subscribing.set_subscription_state(world, COMMAND_LINE, made, "active")
    subscribing.set_subscription_state(world, COMMAND_LINE, made, "ended")
    world.flush()
    periods = world.exec(select(SubscriptionPeriod).order_by(SubscriptionPeriod.id)).all()  # type: ignore[arg-type]
    assert [(period.plan, period.last is not None) for period in periods] == [
        ("skiff", True),
        ("cutter", True),
        ("cutter", True),
    ]
    spans = [(_LAST + timedelta(days=2, hours=5), _LAST + timedelta(days=4)), (_LAST + timedelta(days=4), _LAST + timedelta(days=5)),
             (_LAST + timedelta(days=4, hours=12), _LAST + timedelta(days=40))]  # fmt: skip
    for period, (period.first, period.last) in zip(periods, spans, strict=True):
        world.add(period)
    world.flush()
    days = stating.days_in_force(world, [owner], MONTH)["tern-trips"]
    assert days == {
        ("island-planner", "passage/skiff"): 2,
        ("island-planner", "passage/cutter"): (_THIS - _LAST).days - 4,
    }
    assert world.exec(select(Subscription)).one().state == "ended"
