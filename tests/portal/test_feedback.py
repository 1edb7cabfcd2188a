"""Feedback on a preview: said in the portal, read and answered in the console, and told of when it is published."""

import re

import pytest
from flask.testing import FlaskClient
from sqlalchemy import Engine
from sqlmodel import Session, col, select

from console.life_cycle.test_steps import words
from helpers import sign_in
from portal.test_who_sees_what import LEAD, MEMBER, OTHER
from tamarack.core.configuration.model import Api
from tamarack.core.life_cycle.trial import Trial
from tamarack.settings import Settings
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.audit.tables import AuditEntry
from tamarack.store.draft import queries as drafting
from tamarack.store.life_cycle import feedback
from tamarack.store.life_cycle.tables import Feedback, PreviewReader
from tamarack.store.mail.tables import Mail
from tamarack.store.rollouts import queries as rolling
from tamarack.worker.life_cycle import PublishedTeller

HERE = "/apis/freight-bookings/2"
NOTE = {"call": "post /bookings", "thumb": "down", "text": "How much room is left?", "tell": "yes"}


def said(world: Session) -> list[tuple[str, str, str]]:
    world.expire_all()
    return [(one.call, one.thumb, one.text) for one in world.exec(select(Feedback).order_by(Feedback.id))]  # type: ignore[arg-type]


def publish(world: Session, **changes: object) -> None:
    """Roll the preview out in another state."""
    api = drafting.load_configuration(world).api("freight-bookings")
    assert api is not None
    version = api.versions[0].model_copy(update=changes)
    drafting.save(world, COMMAND_LINE, "api", api.name, api.model_copy(update={"versions": (version,)}), "changed")
    rolling.roll_out(world, COMMAND_LINE, "production")
    world.commit()


def test_a_preview_stands_in_a_part_of_its_own_and_says_who_may_try_it(portal: FlaskClient) -> None:
    page = portal.get("/").text
    published, _, previews = page.partition("Previews")
    assert ("Freight Bookings" in published, "Freight Bookings" in previews) == (False, True)
    assert "You need no subscription and no credential: 60 times a minute from one address." in previews
    assert "Freight Bookings" in portal.get("/?state=preview").text
    assert "Freight Bookings" not in portal.get("/?state=published").text
    assert "Freight Bookings" in portal.get("/?search=freight").text
    page = portal.get(f"{HERE}/operation?call=post%20/bookings").text
    assert "x-skerry-key" not in page  # nothing asks for a key
    assert "Sign in</a> to tell the" in page


def test_what_is_said_is_read_by_the_organization_and_by_staff_alone(lead: FlaskClient, world: Session) -> None:
    assert lead.post(f"{HERE}/feedback/", data=NOTE).status_code == 303
    assert said(world) == [("post /bookings", "down", "How much room is left?")]
    assert "How much room" in lead.get(f"{HERE}/operation?call=post%20/bookings").text
    assert "How much room" not in lead.get(f"{HERE}/").text
    sign_in(lead, *MEMBER)
    page = lead.get(f"{HERE}/operation?call=post%20/bookings").text
    assert ("How much room" in page, "Take back" in page) == (True, False)
    sign_in(lead, *OTHER)
    assert "How much room" not in lead.get(f"{HERE}/operation?call=post%20/bookings").text


@pytest.mark.parametrize(
    ("changes", "error"),
    [
        ({"thumb": "", "text": "  "}, "Choose a thumb, or write what you think."),
        ({"thumb": "sideways"}, "is no thumb"),
        ({"text": "x" * 4001}, "has 4,001 characters; at most 4,000 fit"),
        ({"call": "get /nothing"}, "has no operation"),
    ],
)
def test_what_cannot_be_said_is_shown_again_with_why(
    lead: FlaskClient, world: Session, changes: dict[str, str], error: str
) -> None:
    answer = lead.post(f"{HERE}/feedback/", data=NOTE | changes)
    assert answer.status_code == 422
    assert error in answer.text
    assert changes.get("text", NOTE["text"])[:50] in answer.text
    assert said(world) == []


def test_one_person_says_so_much_in_a_day(lead: FlaskClient, world: Session, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(feedback, "MOST_A_DAY", 1)
    assert lead.post(f"{HERE}/feedback/", data=NOTE).status_code == 303
    assert "write more tomorrow" in lead.post(f"{HERE}/feedback/", data=NOTE).text


def test_feedback_is_for_previews_that_one_sees(lead: FlaskClient, world: Session) -> None:
    assert lead.post("/apis/sailings/2/feedback/", data=NOTE | {"call": ""}).status_code == 422
    assert "What do you think" not in lead.get("/apis/sailings/2/").text
    publish(world, trial=Trial(invited=("kelp-and-crate",)))
    assert lead.get(f"{HERE}/").status_code == 404
    assert lead.post(f"{HERE}/feedback/", data=NOTE).status_code == 404
    assert "Freight" not in lead.get("/").text
    sign_in(lead, *OTHER)
    assert "Your organization is invited" in lead.get(f"{HERE}/").text


def test_it_is_taken_back_by_whoever_said_it(lead: FlaskClient, world: Session) -> None:
    lead.post(f"{HERE}/feedback/", data=NOTE)
    number = world.exec(select(Feedback.id)).one()
    sign_in(lead, *MEMBER)
    assert lead.post(f"{HERE}/feedback/{number}/take-back").status_code == 404
    sign_in(lead, *LEAD)
    assert lead.post("/apis/sailings/2/feedback/1/take-back").status_code == 404
    assert lead.post(f"{HERE}/feedback/{number}/take-back").status_code == 303
    assert said(world) == []
    newest = select(AuditEntry).where(AuditEntry.door == "portal").order_by(col(AuditEntry.id).desc())
    assert world.exec(newest.limit(1)).one().action == "take feedback back"


def test_the_owner_reads_it_beside_the_operation_and_answers_by_mail(
    lead: FlaskClient, admin: FlaskClient, world: Session
) -> None:
    lead.post(f"{HERE}/feedback/", data=NOTE)
    assert "How much room is left?" in admin.get(f"{HERE}/?operation=post%20/bookings").text
    assert "How much room is left?" not in admin.get(f"{HERE}/?operation=get%20/bookings").text
    page = words(admin.get(f"{HERE}/feedback/?open=yes").text)
    assert "Mette Tern of Tern Trips" in page
    assert re.search(r"post /bookings 0 1, 1 note, 1 without an answer", page), page
    number = world.exec(select(Feedback.id)).one()
    empty = admin.post(f"{HERE}/feedback/{number}", data={"answer": " "})
    assert (empty.status_code, "Write an answer." in empty.text) == (422, True)
    assert admin.post(f"/apis/sailings/2/feedback/{number}", data={"answer": "x"}).status_code == 404
    assert admin.post(f"{HERE}/feedback/{number}", data={"answer": "It will say so."}).status_code == 303
    mail = world.exec(select(Mail).where(Mail.to == LEAD[0])).one()
    assert mail.subject == "Your feedback on Freight Bookings 2"
    assert re.search(r"on post /bookings has an answer:\n\n> How much room is left\?\n\nIt will say so\.", mail.text)
    page = lead.get(f"{HERE}/operation?call=post%20/bookings").text
    assert "It will say so." in page
    assert "i.marsh" not in page
    assert "How much room" not in admin.get(f"{HERE}/feedback/?open=yes").text


def test_who_waits_for_it_is_told_once_when_it_is_published(
    lead: FlaskClient, world: Session, engine: Engine, settings: Settings
) -> None:
    lead.post(f"{HERE}/feedback/", data=NOTE)
    log: list[str] = []
    teller = PublishedTeller(engine, settings, log.append)
    teller.look()
    publish(world, title="Freight Bookings")
    teller.look()
    assert world.exec(select(Mail)).all() == []
    publish(world, state="published", policies=drafted(world).versions[0].policies)
    for _ in range(2):
        teller.look()
    mail = world.exec(select(Mail)).one()
    assert (mail.to, mail.subject) == (LEAD[0], "Freight Bookings 2 is published")
    assert f"{settings.portal_url}/apis/freight-bookings/2/" in mail.text
    assert world.exec(select(PreviewReader)).all() == []
    assert log == ["1 told of published previews"]


def test_nobody_waits_for_what_is_published_already(lead: FlaskClient, world: Session) -> None:
    publish(world, state="published", policies=drafted(world).versions[0].policies)
    answer = lead.post(f"{HERE}/feedback/tell", data={"wanted": "yes"})
    assert (answer.status_code, "Freight Bookings 2 is published already." in answer.text) == (409, True)
    assert world.exec(select(PreviewReader)).all() == []


def drafted(world: Session) -> Api:
    api = drafting.load_configuration(world).api("freight-bookings")
    assert api is not None
    return api


def test_nobody_is_told_who_wants_no_more(lead: FlaskClient, world: Session) -> None:
    lead.post(f"{HERE}/feedback/", data=NOTE)
    assert "You get mail when it is published." in lead.get(f"{HERE}/").text
    lead.post(f"{HERE}/feedback/tell", data={"wanted": "no"})
    assert world.exec(select(PreviewReader)).all() == []
    lead.post(f"{HERE}/feedback/", data=NOTE | {"tell": ""})
    assert world.exec(select(PreviewReader)).all() == []
