"""What is kept of metering: use of quotas, who is told, plans that change, lifetimes, peaks, and mail."""

import time
from datetime import UTC, datetime, timedelta
from decimal import Decimal
from typing import Any

import psycopg
import pytest
from sqlalchemy import Engine
from sqlmodel import Session, select

from core.traffic.test_traffic import record
from helpers import free_port, until
from tamarack.core.configuration.model import Configuration
from tamarack.core.configuration.plans import Plan
from tamarack.demo.mail_box import MailBox
from tamarack.settings import Settings
from tamarack.store.applications import changes as subscribing
from tamarack.store.applications import credentials
from tamarack.store.applications import queries as subscribers
from tamarack.store.applications.credentials import Wanted
from tamarack.store.applications.tables import Application, Subscription
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.audit.tables import AuditEntry
from tamarack.store.columns import now
from tamarack.store.draft import queries as drafting
from tamarack.store.errors import NotPossible
from tamarack.store.mail import telling
from tamarack.store.mail.tables import Mail
from tamarack.store.people.tables import Person
from tamarack.store.quotas import queries as quotas
from tamarack.store.quotas.tables import QuotaUsed
from tamarack.store.rollouts import queries as rolling
from tamarack.store.rollouts.below_traffic import below_traffic
from tamarack.store.rollouts.tables import FeedItem
from tamarack.store.traffic.partitions import make_partitions
from tamarack.store.traffic.peaks import arrivals, callers, peaks
from tamarack.store.traffic.plan_effect import effect_of
from tamarack.store.traffic.recording import Batch, take_in
from tamarack.worker.mail import send_mail

START = int(datetime(2026, 11, 1, tzinfo=UTC).timestamp())
ENDS = START + 30 * 86_400
PLACE = ("production", "@quota/passage")


@pytest.fixture
def planner(world: Session) -> Application:
    """Island Planner, on the plan Skiff of Passage in production."""
    owner = subscribers.organization_named(world, "tern-trips")
    assert owner is not None
    made = subscribing.make_application(world, COMMAND_LINE, owner, "Island Planner")
    subscribing.subscribe(world, COMMAND_LINE, offered(world), made, "passage", "skiff", "production")
    world.commit()
    return made


def offered(session: Session) -> Configuration:
    return rolling.running_configuration(session, "production")


def subscription_of(session: Session, application: Application) -> Subscription:
    return session.exec(select(Subscription).where(Subscription.application_id == application.id)).one()


def told(session: Session) -> list[tuple[str, str]]:
    return [(mail.to, mail.subject) for mail in session.exec(select(Mail).order_by(Mail.id))]  # type: ignore[arg-type]


def feed(session: Session, subscription: Subscription) -> dict[str, Any]:
    item = session.get(FeedItem, ("subscription", subscription.id))
    assert item is not None
    assert item.body is not None
    return item.body


def use(session: Session, batch: str, key: str, calls: int, limit: int = 100) -> bool:
    taken = quotas.take_in_use(session, batch, "production-1", [(*PLACE, key, START, ENDS, limit, calls)])
    session.commit()
    return taken


def test_batches_of_use_add_up_count_once_and_tell_at_80_and_100_percent(world: Session, planner: Application) -> None:
    key = subscription_of(world, planner).id
    assert [use(world, "b1", key, 79), use(world, "b1", key, 79)] == [True, False]
    assert told(world) == []
    use(world, "b2", key, 1)
    assert told(world) == [("m.tern@tern-trips.example", "Island Planner has used 80 % of its quota in production")]
    use(world, "b3", key, 19)
    use(world, "b4", key, 1)
    use(world, "b5", key, 500)
    assert [subject for _, subject in told(world)][1:] == ["Island Planner has used up its quota in production"]
    owner = subscribers.organization_named(world, "tern-trips")
    assert owner is not None
    lead = world.exec(select(Person).where(Person.organization_id == owner.id, Person.role == "lead")).one()
    assert [one.application_id for one in telling.notices(world, lead)] == [planner.id] * 2
    assert world.exec(select(QuotaUsed)).one().calls == 600


def test_a_larger_quota_is_told_of_anew(world: Session, planner: Application) -> None:
    key = subscription_of(world, planner).id
    use(world, "b1", key, 100)
    use(world, "b2", key, 1, limit=200)
    assert len(told(world)) == 1
    use(world, "b3", key, 60, limit=200)
    assert [subject for _, subject in told(world)][1:] == ["Island Planner has used 80 % of its quota in production"]


def test_the_quota_of_all_together_is_told_to_the_admins(world: Session) -> None:
    quotas.take_in_use(world, "b", "n", [("production", "sailings/2/quota", "", START, ENDS, 10, 10)])
    assert told(world) == [("i.marsh@skerry.example", "all callers together has used up its quota in production")]


def test_staff_begin_a_quota_anew_or_extend_it_and_both_are_in_the_audit(world: Session, planner: Application) -> None:
    subscription = subscription_of(world, planner)
    plan = quotas.plan_of(world, subscription)
    _, stretch = quotas.use_of(world, subscription, plan) or (0, None)
    assert stretch is not None
    rows = [(*PLACE, subscription.id, stretch.start, stretch.end, stretch.limit, 40_000)]
    quotas.take_in_use(world, "b", "n", rows)
    assert quotas.extend(world, COMMAND_LINE, subscription, 500, "a fair") == 500
    assert quotas.extend(world, COMMAND_LINE, subscription, 500) == 1000
    assert quotas.use_of(world, subscription, plan) == (40_000, stretch._replace(limit=41_000))
    assert (feed(world, subscription)["extra_start"], feed(world, subscription)["extra_calls"]) == (stretch.start, 1000)
    quotas.reset(world, COMMAND_LINE, subscription, "the storm")
    assert (quotas.use_of(world, subscription, plan) or (1,))[0] == 0
    assert feed(world, subscription)["quota_round"] == 1
    entries = {entry.action: entry.details for entry in world.exec(select(AuditEntry))}
    assert (entries["extend quota"]["calls"], entries["reset quota"]["used"]) == (500, 40_000)
    with pytest.raises(NotPossible, match="1 to"):
        quotas.extend(world, COMMAND_LINE, subscription, 0)


def test_a_plan_changes_now_or_at_the_periods_end_and_the_nodes_hear_of_it(
    world: Session, planner: Application
) -> None:
    subscription = subscription_of(world, planner)
    subscribing.change_plan(world, COMMAND_LINE, offered(world), subscription, "cutter", at_period_end=True)
    assert (subscription.plan, subscription.next_plan) == ("skiff", "cutter")
    assert subscription.next_at is not None
    assert subscription.next_at.astimezone(UTC).hour in (22, 23)  # midnight in Oslo
    assert subscribing.change_plans_due(world) == []
    subscription.next_at = now() - timedelta(seconds=1)
    world.add(subscription)
    assert len(subscribing.change_plans_due(world)) == 1
    assert (subscription.plan, subscription.next_plan, feed(world, subscription)["plan"]) == ("cutter", "", "cutter")
    subscribing.change_plan(world, COMMAND_LINE, offered(world), subscription, "skiff")
    assert feed(world, subscription)["plan"] == "skiff"
    for plan, words in (("skiff", "already"), ("barge", "not offered")):
        with pytest.raises(NotPossible, match=words):
            subscribing.change_plan(world, COMMAND_LINE, offered(world), subscription, plan)


def test_a_plan_by_approval_is_asked_for_and_waits(world: Session, planner: Application) -> None:
    subscription = subscription_of(world, planner)
    subscribing.change_plan(world, COMMAND_LINE, offered(world), subscription, "liner", approved=False)
    assert (subscription.plan, subscription.next_plan, subscription.next_at) == ("skiff", "liner", None)
    assert subscribing.change_plans_due(world) == []
    subscribing.keep_plan(world, COMMAND_LINE, subscription)
    assert subscription.next_plan == ""
    with pytest.raises(NotPossible, match="waiting"):
        subscribing.keep_plan(world, COMMAND_LINE, subscription)


def test_a_credential_lasts_no_longer_than_its_plan_says(
    settings: Settings, world: Session, planner: Application
) -> None:
    keys = settings.keys.credentials

    def make(days: int | None) -> datetime | None:
        ends = now() + timedelta(days=days) if days is not None else None
        wanted = Wanted(expires_at=ends)
        return credentials.make_credential(
            world, COMMAND_LINE, keys, planner, "production", wanted
        ).credential.expires_at

    assert [round(((make(days) or now()) - now()) / timedelta(days=1)) for days in (None, 30)] == [365, 30]
    with pytest.raises(NotPossible, match="Skiff a credential lasts 365 days"):
        make(400)
    elsewhere = credentials.make_credential(world, COMMAND_LINE, keys, planner, "test")
    assert elsewhere.credential.expires_at is None


def moment() -> float:
    """Ten minutes ago, in the middle of a minute and of a second."""
    return int(time.time()) // 60 * 60 - 600 + 30.5


def calls(session: Session, settings: Settings, times: list[float], **fields: Any) -> None:
    """Recorded calls at some seconds since the epoch."""
    said = {"environment": "production", "organization": "tern-trips", "application": "island-planner",
            "plan": "passage/skiff", "api": "sailings", "version": "2", "operation": "get /sailings"} | fields  # fmt: skip
    name = said["application"]
    records = [record(int(at * 1_000_000), **(said | {"id": f"{name}{place}"})) for place, at in enumerate(times)]
    with psycopg.connect(settings.database, autocommit=True) as connection:
        make_partitions(connection, (now() - timedelta(days=2)).date(), now().date())
        take_in(connection, [Batch(f"calls-{name}", "n", records)])
    session.expire_all()


def test_peaks_and_arrivals_are_those_of_the_records(world: Session, settings: Settings) -> None:
    base = moment()
    calls(world, settings, [base + one / 100 for one in range(7)])
    calls(world, settings, [base, base - 90], application="tern-mobile")
    found = [(one.application, one.calls, one.at.timestamp()) for one in peaks(world, "production", 1)]
    assert found == [("island-planner", 7, base - 0.5), ("tern-mobile", 1, base - 0.5)]
    assert [one.calls for one in peaks(world, "production", 60, together=True)] == [8]
    assert peaks(world, "production", 60, {("fares", "1", "get /tariffs")}) == []
    assert [one.application for one in peaks(world, "production", 60, api="sailings", more_than=5)] == [
        "island-planner"
    ]
    assert callers(world, "production") == [("tern-trips", "island-planner"), ("tern-trips", "tern-mobile")]
    times = arrivals(world, "production", "tern-trips", "island-planner", now() - timedelta(hours=1), now())
    assert times == [round((base + one / 100) * 1_000_000) for one in range(7)]


def test_review_names_whom_a_tighter_limit_would_refuse_and_not_what_runs_already(
    world: Session, settings: Settings, planner: Application
) -> None:
    calls(world, settings, [moment() + one / 1000 for one in range(40)])
    live = offered(world)
    assert below_traffic(world, "production", live, live) == []
    product = live.product("passage")
    assert product is not None
    tight = product.plans[0].model_copy(update={"limits": Plan.model_validate(
        {"name": "x", "title": "x", "limits": ["15 per minute"]}).limits})  # fmt: skip
    changed = product.model_copy(update={"plans": (tight, *product.plans[1:])})
    draft = live.model_copy(
        update={"products": tuple(changed if one.name == "passage" else one for one in live.products)}
    )
    (risk,) = below_traffic(world, "production", live, draft)
    assert "island-planner" in risk.text
    assert "15 per minute, is below current traffic" in risk.text
    (effect,) = [one for one in effect_of(world, "passage", "skiff", tight) if one.application.id == planner.id]
    assert effect.over
    assert [one.over for one in effect.windows] == [True]


def test_mail_waits_until_the_server_takes_it(world: Session, engine: Engine, settings: Settings) -> None:
    from aiosmtpd.controller import Controller

    telling.tell_admins(world, "A title\nof two lines", "The text, with ø")
    world.commit()
    assert send_mail(engine, settings, print) == 0  # there is no server: it waits, untried
    assert world.exec(select(Mail)).one().tries == 0
    port = free_port()
    away = settings.model_copy(update={"mail_server": f"127.0.0.1:{port}"})
    said: list[str] = []
    assert send_mail(engine, away, said.append) == 0
    waiting = world.exec(select(Mail)).one()
    assert (waiting.tries, "does not answer" in said[0], waiting.sent_at) == (1, True, None)
    waiting.next_try_at = now()
    world.add(waiting)
    world.commit()
    box = MailBox()
    server = Controller(box, hostname="127.0.0.1", port=port)
    server.start()
    try:
        assert send_mail(engine, away, said.append) == 1
        to, subject, _, body = until(lambda: list(box.mail), "the mail")[0]
    finally:
        server.stop()
    assert (to, subject) == ("i.marsh@skerry.example", "A title of two lines")
    assert "with ø" in body
    assert send_mail(engine, away, said.append) == 0


def test_prices_and_parts_survive_the_draft_exactly(world: Session) -> None:
    configuration = drafting.load_configuration(world)
    plan = next(plan for plan in configuration.products[-1].plans + configuration.products[1].plans if plan.parts)
    assert plan.price_per_thousand == Decimal("0.35")
    assert [str(part) for part in plan.parts] == ["fares post /quotes: 10 per second, 200 per minute"]
