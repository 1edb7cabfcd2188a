"""Alerts over recorded calls: looked at minute by minute, told by mail outside quiet hours, and kept."""

import asyncio
from datetime import UTC, datetime, timedelta
from typing import Any

import psycopg
import pytest
from sqlmodel import Session, select

from core.traffic.test_traffic import record
from helpers import apart
from tamarack.core.nodes.feed import Report
from tamarack.core.traffic.alert import Rule
from tamarack.gateway.feed.database import DatabaseFeed
from tamarack.settings import Settings
from tamarack.store.alerts import queries as alerting
from tamarack.store.alerts.tables import AlertRow
from tamarack.store.audit.log import Actor, latest
from tamarack.store.columns import now
from tamarack.store.errors import NotPossible
from tamarack.store.mail.tables import Mail
from tamarack.store.nodes.tables import Node, NodeSilence
from tamarack.store.rollouts.tables import TargetChange
from tamarack.store.traffic.recording import Batch, take_in

ACTOR = Actor("i.marsh@skerry.example", "console")
START = datetime(2026, 11, 23, 8, 0, tzinfo=UTC)
MINUTE = timedelta(minutes=1)


def rule(**changes: object) -> Rule:
    values = {"title": "Fares fails", "measure": "failed share", "limit": 0.5, "window": 2, "holds": 2,
              "where": ["api is fares"], "mail_to": ["i.marsh@skerry.example"]} | changes  # fmt: skip
    return Rule.model_validate(values)


def put(settings: Settings, failing: range, minutes: int = 20, start: datetime = START, many: int = 10) -> None:
    """Ten calls of Fares in each minute; all fail in some of them. Calls of others fail all the time."""
    calls = []
    for minute in range(minutes):
        for second in range(many):
            at = start + minute * MINUTE + timedelta(seconds=second)
            for api, fails in (("fares", minute in failing), ("sailings", True)):
                calls.append(record(int(at.timestamp() * 1e6), id=f"{api}{at.isoformat()}", environment="production", api=api,
                                    application=f"app-{second}", status=502 if fails else 200,
                                    reason="backend-away" if fails else ""))  # fmt: skip
    with psycopg.connect(settings.database, autocommit=True) as connection:
        take_in(connection, [Batch(f"{start.isoformat()}", "n", calls)])


def follow(session: Session, row: AlertRow, until: int) -> list[tuple[str, int]]:
    """Look after every minute; what was told, with the minute."""
    told = []
    for minute in range(1, until + 1):
        for event in alerting.look(session, row, START + minute * MINUTE + alerting.SETTLES):
            told.append((event.what, (event.at - START) // MINUTE))
    session.flush()
    return told


def mails(session: Session) -> list[tuple[str, str]]:
    session.flush()
    return [(mail.subject, mail.text) for mail in session.exec(select(Mail).order_by(Mail.id))]  # type: ignore[arg-type]


def test_an_alert_is_raised_told_and_over(settings: Settings, session: Session) -> None:
    put(settings, range(5, 10))
    row = alerting.save(session, ACTOR, rule())
    assert follow(session, row, 20) == [("raised", 8), ("over", 13)]
    assert alerting.tell(session, START + timedelta(hours=1), "http://console/alerts") == 1
    ((subject, text),) = mails(session)
    assert subject == "Fares fails: raised, and over again"
    assert "Share of failed in production where api is fares above 50 %" in text
    assert "08:08 UTC" in text
    assert "08:13 UTC" in text
    assert f"http://console/alerts/{row.id}/" in text
    assert alerting.tell(session, START + timedelta(hours=1), "x") == 0
    (raised,) = alerting.raised_between(session, START, START + timedelta(hours=1))
    assert (raised.first, raised.last) == (START + 8 * MINUTE, START + 13 * MINUTE)
    assert alerting.raised_between(session, START + timedelta(minutes=30), START + timedelta(hours=1)) == []


def test_what_is_told_at_once_is_two_mails(settings: Settings, session: Session) -> None:
    put(settings, range(5, 10))
    row = alerting.save(session, ACTOR, rule())
    for minute in range(1, 21):
        at = START + minute * MINUTE + alerting.SETTLES
        alerting.look(session, row, at)
        alerting.tell(session, at, "http://console/alerts")
    assert [subject for subject, _ in mails(session)] == ["Fares fails: raised", "Fares fails: over"]


def test_in_quiet_hours_states_go_on_and_mail_waits(settings: Settings, session: Session) -> None:
    put(settings, range(5, 20))
    row = alerting.save(session, ACTOR, rule(quiet={"first": "07:00", "last": "09:30"}))
    assert follow(session, row, 20) == [("raised", 8)]
    assert row.state == "raised"
    assert alerting.tell(session, START + timedelta(minutes=89), "x") == 0
    assert alerting.tell(session, START + timedelta(minutes=90), "x") == 1
    assert mails(session)[0][0] == "Fares fails: raised"


def test_looking_late_tells_the_same(settings: Settings, session: Session) -> None:
    put(settings, range(5, 10))
    row = alerting.save(session, ACTOR, rule())
    alerting.look(session, row, START + MINUTE + alerting.SETTLES)
    events = alerting.look(session, row, START + 20 * MINUTE + alerting.SETTLES)
    assert [(event.what, (event.at - START) // MINUTE) for event in events] == [("raised", 8), ("over", 13)]
    assert alerting.look(session, row, START + 20 * MINUTE + alerting.SETTLES) == []


def test_a_change_is_against_the_same_minutes_of_earlier_weeks(settings: Settings, session: Session) -> None:
    for back, many in ((0, 30), (1, 10), (2, 10)):
        put(settings, range(0), start=START - timedelta(weeks=back), many=many)
    found = alerting.values(
        session, rule(measure="calls", compare="change", limit=1), START + 5 * MINUTE, START + 8 * MINUTE
    )
    assert [value for _, value in found] == [pytest.approx(2.0)] * 3


@pytest.mark.parametrize("measure", ["calls", "p95", "callers", "rate", "refused share"])
def test_every_minute_is_measured_over_its_window(settings: Settings, session: Session, measure: str) -> None:
    put(settings, range(0))
    found = alerting.values(session, rule(measure=measure, limit=1), START + 5 * MINUTE, START + 8 * MINUTE)
    expected = {
        "calls": 20,
        "p95": pytest.approx(1000, rel=0.01),
        "callers": 10,
        "rate": pytest.approx(1 / 6),
        "refused share": 0,
    }
    assert [at for at, _ in found] == [START + minute * MINUTE for minute in (6, 7, 8)]
    assert [value for _, value in found] == [expected[measure]] * 3


def test_a_rule_is_tried_on_the_past_before_it_is_kept(settings: Settings, session: Session) -> None:
    put(settings, range(5, 10))
    _, events = alerting.rehearsed(session, rule(), START, START + 20 * MINUTE)
    assert [event.what for event in events] == ["raised", "over"]
    assert alerting.alerts(session) == []


def test_paused_changed_and_removed_alerts_are_over_and_noted(settings: Settings, session: Session) -> None:
    put(settings, range(5, 20))
    row = alerting.save(session, ACTOR, rule())
    follow(session, row, 10)
    alerting.pause(session, ACTOR, row, True)
    session.flush()
    assert alerting.look(session, row, START + 12 * MINUTE) == []
    assert [event.what for event in alerting.history(session, row.id)] == ["over", "raised"]
    alerting.pause(session, ACTOR, row, False)
    alerting.save(session, ACTOR, rule(limit=0.9), row.id)
    assert (row.state, row.looked_at) == ("calm", None)
    alerting.remove(session, ACTOR, row)
    session.flush()
    assert {"save alert", "pause alert", "resume alert", "remove alert"} <= {entry.action for entry in latest(session)}
    with pytest.raises(NotPossible, match="no such alert"):
        alerting.save(session, ACTOR, rule(), row.id)


def test_an_alert_watches_targets_whatever_the_calls_are(session: Session) -> None:
    watched = Rule(title="Targets", measure="targets not well", limit=0, window=1, holds=1)
    begins = datetime(2026, 11, 20, 8, 0, tzinfo=UTC)
    for seconds, node, state in ((90, "n1", "open"), (100, "n2", "unwell"), (130, "n1", "half-open"), (150, "n1", "well"),
                                 (270, "n2", "well")):  # fmt: skip
        session.add(TargetChange(at=begins + timedelta(seconds=seconds), environment="production", node=node,
                                 backend="positions", target="a:1", state=state))  # fmt: skip
    session.add(TargetChange(at=begins - timedelta(days=3), environment="production", node="n1", backend="fares",
                             target="b:1", state="open"))  # fmt: skip
    session.flush()
    found = alerting.values(session, watched, begins, begins + timedelta(minutes=6))
    assert [value for _, value in found] == [1, 2, 2, 2, 2, 1]
    with pytest.raises(ValueError, match="no matter of calls"):
        Rule(title="T", measure="targets not well", limit=0, least_calls=5)


def test_an_alert_watches_nodes_that_are_not_heard_of(session: Session) -> None:
    def node(name: str, seen: datetime, **more: Any) -> Node:
        return Node(name=name, environment="production", address="", seen_at=seen, **more)

    far = START + 100 * MINUTE
    session.add_all(
        [
            node("there", far), node("gone", START + 8 * MINUTE), node("revoked", START, revoked_at=START),
            NodeSilence(node="there", environment="production", since=START + 2 * MINUTE, until=START + 4 * MINUTE),
            NodeSilence(node="forgotten", environment="production", since=START, until=START + 9 * MINUTE),
            NodeSilence(node="there", environment="test", since=START, until=START + 9 * MINUTE),
        ]
    )  # fmt: skip
    session.commit()
    watched = Rule(title="Nodes", measure="nodes not heard of", limit=0, window=1, holds=1)
    found, told = alerting.rehearsed(session, watched, START, START + 10 * MINUTE)
    assert [value for _, value in found] == [0, 0, 1, 1, 0, 0, 0, 0, 1, 1]
    assert (told[0].what, told[0].at) == ("raised", START + 3 * MINUTE)
    assert alerting.exploration_of(watched) is None
    with pytest.raises(ValueError, match="'nodes not heard of' is no matter of calls"):
        Rule(title="N", measure="nodes not heard of", limit=0, least_calls=5)


def test_a_node_that_is_heard_of_again_leaves_its_silence_behind(settings: Settings, session: Session) -> None:
    for seen, silences in ((now(), 0), (now() - timedelta(minutes=3), 1)):
        session.merge(Node(name="n1", environment="production", address="", seen_at=seen))
        session.commit()

        async def report() -> None:
            feed = DatabaseFeed(settings.database, "n1", "production", bytes(32))
            await feed.begin()
            await feed.report(Report())
            await feed.close()

        apart(asyncio.run, report())
        session.expire_all()
        noted = session.exec(select(NodeSilence)).all()
        assert [(one.node, one.since) for one in noted] == [("n1", seen)] * silences
