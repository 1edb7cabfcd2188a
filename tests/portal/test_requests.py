"""Access requests: a plan that a person approves, asked for from the portal and decided by staff, with mail to both."""

import pytest
from flask.testing import FlaskClient
from sqlmodel import Session, select

from helpers import sign_in
from portal.test_joining import mails
from tamarack.store.applications.tables import Subscription
from tamarack.store.audit.tables import AuditEntry

LEAD = ("m.tern@tern-trips.example", "island-hopper-52")
ADMIN = "i.marsh@skerry.example"
FORM = {"title": "Night Planner", "plan": "passage/liner", "environment": "production", "message": "we sell passages"}


@pytest.fixture
def asked(portal: FlaskClient, world: Session) -> Subscription:
    """Tern Trips asked for the plan Liner."""
    sign_in(portal, *LEAD)
    answer = portal.post("/apis/sailings/2/subscribe", data=FORM, follow_redirects=True)
    assert "Your request is with the platform team" in answer.text
    return world.exec(select(Subscription)).one()


def post(admin: FlaskClient, one: Subscription, **data: str) -> str:
    where = f"/subscribers/applications/{one.application_id}/subscriptions/{one.id}"
    return admin.post(where, data=data, follow_redirects=True).text


def state(session: Session, one: Subscription) -> str:
    session.expire_all()
    kept = session.get(Subscription, one.id)
    assert kept is not None
    return kept.state


def test_staff_hear_of_a_request_and_approve_it(admin: FlaskClient, world: Session, asked: Subscription) -> None:
    (mail,) = mails(world, ADMIN)
    assert mail.subject == "Night Planner asks for Passage, plan Liner"
    assert "we sell passages" in mail.text
    assert "we sell passages" in admin.get("/subscribers/requests/").text
    post(admin, asked, state="active")
    assert state(world, asked) == "active"
    assert mails(world, LEAD[0])[-1].subject.endswith("in production is approved")
    assert "we sell passages" not in admin.get("/subscribers/requests/").text


def test_a_request_is_declined_with_a_reason_only(admin: FlaskClient, world: Session, asked: Subscription) -> None:
    assert "Say why" in post(admin, asked, state="ended")
    assert state(world, asked) == "pending"
    post(admin, asked, state="ended", reason="try Cutter first")
    assert state(world, asked) == "ended"
    assert "try Cutter first" in mails(world, LEAD[0])[-1].text
    entry = world.exec(select(AuditEntry).where(AuditEntry.action == "subscription ended")).one()
    assert entry.details["reason"] == "try Cutter first"


def test_people_take_a_request_back_without_a_reason_and_hear_when_staff_pause(
    portal: FlaskClient, admin: FlaskClient, world: Session, asked: Subscription
) -> None:
    post(admin, asked, state="active")
    post(admin, asked, state="paused", reason="too many errors")
    assert "paused: its calls are refused" in mails(world, LEAD[0])[-1].subject
    assert "too many errors" in portal.get(f"/applications/{asked.application_id}").text
    before = len(mails(world, LEAD[0]))
    portal.post(f"/applications/{asked.application_id}/subscriptions/{asked.id}/end")
    assert (state(world, asked), len(mails(world, LEAD[0]))) == ("ended", before)
