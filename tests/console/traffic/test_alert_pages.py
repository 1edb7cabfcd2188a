"""Alerts in the console: watched, tried on the past, raised on the pictures, paused and removed."""

import re
from datetime import UTC, datetime, timedelta

import psycopg
import pytest
from flask.testing import FlaskClient
from sqlalchemy import Engine
from sqlmodel import Session, select

from core.traffic.test_traffic import record
from helpers import sign_in
from tamarack.settings import Settings
from tamarack.store.alerts import queries as alerting
from tamarack.store.alerts.tables import AlertRow
from tamarack.store.mail.tables import Mail
from tamarack.store.traffic.recording import Batch, take_in
from tamarack.worker.alerts import look_all

ALERTS = "/traffic/alerts/"
FORM = {
    "title": "Fares fails", "measure": "failed share", "where": "api is fares", "environment": "production",
    "compare": "value", "side": "above", "limit": "50 %", "window": "2", "holds": "1", "hysteresis": "10",
    "least_calls": "0", "weeks": "2", "quiet_first": "", "quiet_last": "", "quiet_zone": "UTC",
    "mail_to": "i.marsh@skerry.example o.reed@skerry.example",
}  # fmt: skip


@pytest.fixture
def failing(settings: Settings) -> None:
    """Fares has failed for ten minutes."""
    start = datetime.now(UTC) - timedelta(minutes=10)
    calls = [
        record(int((start + timedelta(seconds=6 * place)).timestamp() * 1e6), id=f"{place:024x}", environment="production",
               api="fares", status=502, reason="backend-away")
        for place in range(100)
    ]  # fmt: skip
    with psycopg.connect(settings.database, autocommit=True) as connection:
        take_in(connection, [Batch("b", "n", calls)])


@pytest.mark.usefixtures("failing")
def test_an_alert_is_tried_kept_raised_and_told(
    admin: FlaskClient, settings: Settings, engine: Engine, session: Session
) -> None:
    assert "Nothing is watched yet" in admin.get(ALERTS).text
    tried = admin.post(f"{ALERTS}new", data=FORM | {"do": "try"}).text
    assert "it would have been raised <b>1 time</b>" in tried
    assert "data-points" in tried
    assert session.exec(select(AlertRow)).all() == []
    kept = admin.post(f"{ALERTS}new", data=FORM | {"do": "keep"})
    page = admin.get(kept.location).text
    assert "Share of failed in production where api is fares above 50 %" in page
    with Session(engine) as looking:
        row = looking.exec(select(AlertRow)).one()
        row.looked_at = datetime.now(UTC) - timedelta(minutes=5)
        looking.add(row)
        looking.commit()
    said: list[str] = []
    look_all(engine, settings, said.append)
    assert said == ["alert Fares fails: raised"]
    assert "raised</b>" in admin.get(f"{ALERTS}?part=table").text
    page = admin.get(kept.location).text
    assert "What it told" in page
    assert "sent" in page
    assert sorted(mail.to for mail in session.exec(select(Mail))) == ["i.marsh@skerry.example", "o.reed@skerry.example"]
    for picture in ("/traffic/?span=hour", "/traffic/explore/?span=hour"):
        assert 'class="happened firing"' in admin.get(picture).text
        assert "Fares fails: raised at" in admin.get(picture).text


@pytest.mark.parametrize(
    ("changes", "words"),
    [
        ({"limit": "5"}, "write it like 5 %"),
        ({"where": "path contains /x"}, "reads single calls"),
        ({"where": "colour is red"}, "is not a field of calls"),
        ({"title": ""}, "title"),
        ({"mail_to": "nobody"}, "@"),
        ({"hysteresis": "much"}, "not a number of percent"),
        ({"window": "0"}, "greater than or equal to 1"),
        ({"quiet_first": "22:00"}, "last"),
        ({"quiet_first": "22:00", "quiet_last": "06:00", "quiet_zone": "Nowhere"}, "Nowhere"),
    ],
)
def test_a_form_that_cannot_be_says_why_and_loses_nothing(
    admin: FlaskClient, changes: dict[str, str], words: str
) -> None:
    answer = admin.post(f"{ALERTS}new", data=FORM | changes)
    assert answer.status_code == 422
    assert words in answer.text.replace("&#39;", "'")
    for name, value in (FORM | changes).items():
        if value and name not in ("environment", "compare", "side", "measure"):
            assert value in answer.text


def test_alerts_are_changed_paused_and_removed_by_those_who_may_edit(admin: FlaskClient, session: Session) -> None:
    admin.post(f"{ALERTS}new", data=FORM)
    row = session.exec(select(AlertRow)).one()
    where = f"{ALERTS}{row.id}/"
    edit = admin.get(f"{where}edit").text
    assert 'value="50 %"' in edit
    admin.post(f"{where}edit", data=FORM | {"limit": "20 %", "quiet_first": "22:00", "quiet_last": "06:00"})
    assert "above 20 %" in admin.get(where).text
    assert "but not from 22:00 to 06:00 (UTC)" in admin.get(where).text
    admin.post(f"{where}pause", data={"paused": "yes"})
    assert "not watched" in admin.get(ALERTS).text
    sign_in(admin, "s.heath@skerry.example", "lichen-grey-23")
    assert admin.get(where).status_code == 200
    assert "Change" not in re.findall(r">(\w+)</a>", admin.get(where).text)
    for path in ("edit", "pause", "remove"):
        assert admin.post(f"{where}{path}", data=FORM).status_code == 403
    sign_in(admin, "i.marsh@skerry.example", "larch-gold-41")
    assert "is removed, with its history" in admin.post(f"{where}remove", follow_redirects=True).text
    assert admin.get(where).status_code == 404


def test_an_alert_begins_from_what_is_explored(admin: FlaskClient) -> None:
    page = admin.get(f"{ALERTS}new?measure=p95&where=api+is+fares").text
    assert '<option value="p95" selected>' in page
    assert ">api is fares</textarea>" in page


def test_the_words_of_a_rule_name_all_of_it() -> None:
    from tamarack.core.traffic.alert import Rule

    rule = Rule.model_validate({"title": "T", "measure": "calls", "compare": "change", "side": "below", "limit": -0.5,
                                "window": 60, "holds": 1, "weeks": 1})  # fmt: skip
    assert alerting.condition_in_words(rule) == (
        "Calls in production, against the same minutes of 1 earlier week, below -50%, measured over 60 minutes, for 1 minute"
    )
