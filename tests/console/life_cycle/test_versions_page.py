"""The versions of an API side by side: who still calls, writing to them, and steps that are planned."""

import re
from datetime import UTC, datetime, timedelta
from typing import Any

import psycopg
import pytest
from flask.testing import FlaskClient
from sqlmodel import Session, select

from console.life_cycle.test_steps import words
from core.traffic.test_traffic import record
from helpers import sign_in
from tamarack.settings import Settings
from tamarack.store.applications import changes as subscribing
from tamarack.store.applications import queries as subscribers
from tamarack.store.applications.tables import Application
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.columns import now
from tamarack.store.life_cycle.tables import Letter, PlannedStep
from tamarack.store.mail.tables import Mail
from tamarack.store.portal.notice_table import Notice
from tamarack.store.traffic.last_calls import last_calls
from tamarack.store.traffic.recording import Batch, take_in

PAGE = "/apis/sailings/1/versions/"
OWNER = ("o.reed@skerry.example", "spruce-ink-17")


@pytest.fixture
def callers(world: Session, settings: Settings) -> dict[str, Application]:
    """Two applications: a planner that moved for the most part, a kiosk that did not; and calls of nobody known."""
    made = {}
    for organization, title in (("tern-trips", "Night Planner"), ("ticket-office", "Quay Kiosk")):
        owner = subscribers.organization_named(world, organization)
        assert owner is not None
        application = subscribing.make_application(world, COMMAND_LINE, owner, title)
        made[application.name] = application
    world.commit()
    at = int((now() - timedelta(hours=2)).timestamp() * 1_000_000)
    wanted = [("tern-trips", "night-planner", "1", 3), ("tern-trips", "night-planner", "2", 9),
              ("ticket-office", "quay-kiosk", "1", 5), ("", "", "1", 2)]  # fmt: skip
    calls = [
        record(at + number, id=f"{application}{version}{number}", api="sailings", version=version, environment="production",
               operation="get /sailings", organization=organization, application=application)
        for organization, application, version, many in wanted
        for number in range(many)
    ]  # fmt: skip
    with psycopg.connect(settings.database, autocommit=True) as connection:
        take_in(connection, [Batch("b1", "production-1", calls)])
    return made


def test_the_page_shows_how_far_each_caller_moved(
    admin: FlaskClient, world: Session, callers: dict[str, Application]
) -> None:
    for days in ("7", "30", "90", "often"):
        said = words(admin.get(f"{PAGE}?days={days}").text)
        assert re.search(r"version 1 deprecated /sailings/v1 10 53\W% 2 \d+ (min|h) ago", said), said
        assert re.search(r"version 2 published /sailings/v2 9 47\W% 1 ", said)
        assert re.search(r"Night Planner Tern Trips 3 0 75\W%", said)
        assert re.search(r"Quay Kiosk Ticket Office 5 0 0\W%", said)
        assert re.search(r"without a credential – 2 0", said)
    assert "Nobody called version 2 in 30 days." not in admin.get("/apis/sailings/2/versions/").text
    assert "Nobody called version 1 in 30 days." in admin.get("/apis/fares/1/versions/").text


def test_the_last_call_is_known_to_the_minute(world: Session, callers: dict[str, Application]) -> None:
    found = last_calls(world, "production", "sailings", "1")
    at = (now() - timedelta(hours=2)).replace(second=0, microsecond=0)
    assert set(found) == {("tern-trips", "night-planner"), ("ticket-office", "quay-kiosk"), ("", "")}
    assert all(abs(moment - at) <= timedelta(minutes=1) for moment in found.values())
    assert last_calls(world, "test", "sailings", "1") == {}


def test_a_letter_is_proposed_seen_sent_and_remembered(
    admin: FlaskClient, world: Session, callers: dict[str, Application]
) -> None:
    page = words(admin.get("/apis/sailings/1/letter/").text)
    assert "Version 2 at /sailings/v2 takes its place. Your subscription and your credentials hold there too" in page
    assert "m.tern@tern-trips.example" in page
    assert "a.quay@skerry.example" in page
    chosen = {"to": callers["night-planner"].id, "title": "Time to move", "text": "Version 1 ends."}
    seen = admin.post("/apis/sailings/1/letter/", data=chosen | {"act": "preview"})
    assert "Night Planner: 3 calls, the last on" in seen.text
    assert "a.quay@skerry.example" not in seen.text
    assert world.exec(select(Mail)).all() == []
    assert admin.post("/apis/sailings/1/letter/", data=chosen | {"act": "send"}).status_code == 303
    mail = world.exec(select(Mail)).one()
    assert (mail.to, mail.subject) == ("m.tern@tern-trips.example", "Time to move")
    assert re.search(
        r"Mette Tern,\n\nVersion 1 ends\.\n\n.*version 1:\n- Night Planner: 3 calls, the last on", mail.text
    )
    notice = world.exec(select(Notice)).one()
    assert (notice.application_id, notice.title) == (callers["night-planner"].id, "Time to move")
    letter = world.exec(select(Letter)).one()
    assert (letter.mailed, letter.applications) == (1, [callers["night-planner"].id])
    assert "Time to move" in admin.get(PAGE).text


@pytest.mark.parametrize(
    ("changes", "error"),
    [
        ({"title": ""}, "The title is missing"),
        ({"title": "x" * 141}, "has 141 characters"),
        ({"text": " "}, "Write what there is to say"),
        ({"to": []}, "Choose at least one application"),
        ({"to": ["nobody"]}, "Choose at least one application"),
    ],
)
def test_a_letter_that_cannot_be_sent_is_shown_again(
    admin: FlaskClient, world: Session, callers: dict[str, Application], changes: dict[str, Any], error: str
) -> None:
    typed = {"to": [callers["quay-kiosk"].id], "title": "Time to move", "text": "Version 1 ends."} | changes
    answer = admin.post("/apis/sailings/1/letter/", data=typed)
    assert (answer.status_code, error in answer.text) == (422, True)
    assert world.exec(select(Mail)).all() == []


def test_a_step_is_planned_shown_and_called_off(admin: FlaskClient, world: Session) -> None:
    at = datetime.now(UTC) + timedelta(days=40)
    typed = {"environment": "production", "state": "retired", "at": f"{at:%Y-%m-%dT09:00}"}
    assert admin.post(f"{PAGE}plan", data=typed).status_code == 303
    assert re.search(rf"Version 1 becomes retired in production.*{at:%d %B %Y}, 09:00 UTC", words(admin.get(PAGE).text))
    step = world.exec(select(PlannedStep)).one()
    assert admin.post(f"{PAGE}steps/{step.id}/call-off").status_code == 303
    assert "Version 1 to retired: called off" in words(admin.get(PAGE).text)
    assert admin.post("/apis/fares/1/versions/steps/999/call-off").status_code == 404


@pytest.mark.parametrize(
    ("changes", "error"),
    [
        ({"at": "soon"}, "is not a time; choose a day and a time of day"),
        ({"at": "2020-01-01T09:00"}, "is past; choose a time to come"),
        ({"state": "preview"}, "cannot become preview"),
    ],
)
def test_a_step_that_cannot_be_planned_is_shown_again(
    admin: FlaskClient, world: Session, changes: dict[str, str], error: str
) -> None:
    at = f"{datetime.now(UTC) + timedelta(days=40):%Y-%m-%dT09:00}"
    answer = admin.post(f"{PAGE}plan", data={"environment": "production", "state": "retired", "at": at} | changes)
    assert (answer.status_code, error in answer.text) == (422, True)
    assert world.exec(select(PlannedStep)).all() == []
    assert admin.post(f"{PAGE}plan", data={"environment": "moon", "state": "retired", "at": at}).status_code == 400


def test_who_may_not_roll_out_may_not_plan_it_either(console: FlaskClient, world: Session) -> None:
    sign_in(console, *OWNER)
    at = f"{datetime.now(UTC) + timedelta(days=40):%Y-%m-%dT09:00}"
    typed = {"environment": "production", "state": "retired", "at": at}
    assert console.post(f"{PAGE}plan", data=typed).status_code == 403
    assert "may not roll out to production" in console.get(PAGE).text
    typed["environment"] = "test"
    assert console.post(f"{PAGE}plan", data=typed).status_code == 303
