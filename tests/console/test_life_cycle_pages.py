"""The steps of versions in the console: whom the review says they touch, and those that cannot be taken."""

import re
from typing import Any

import psycopg
import pytest
from flask.testing import FlaskClient
from sqlmodel import Session

from core.traffic.test_traffic import record
from tamarack.core.configuration.model import Configuration
from tamarack.settings import Settings
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.columns import now
from tamarack.store.draft import queries as drafting
from tamarack.store.rollouts import queries as rolling
from tamarack.store.traffic.recording import Batch, take_in


def draft_with(session: Session, version: str, **changes: Any) -> Configuration:
    """Change a version of Sailings in the draft, past any form."""
    draft = drafting.load_configuration(session)
    api = draft.api("sailings")
    assert api is not None
    versions = tuple(one.model_copy(update=changes) if one.version == version else one for one in api.versions)
    changed = api.model_copy(update={"versions": versions})
    drafting.save(session, COMMAND_LINE, "api", "sailings", changed, "changed")
    session.commit()
    return draft


def words(page: str) -> str:
    return " ".join(re.sub(r"<[^>]+>", " ", page).split())


def test_the_review_says_whom_a_step_touches(admin: FlaskClient, world: Session, settings: Settings) -> None:
    assert "Steps of versions" not in admin.get("/review").text
    at = int(now().timestamp() * 1_000_000) - 600_000_000
    calls = [record(at + number, id=f"c{number}", api="sailings", version="1", operation="get /sailings", environment="production",
                    organization="ticket-office", application="kiosk") for number in range(7)]  # fmt: skip
    with psycopg.connect(settings.database, autocommit=True) as connection:
        take_in(connection, [Batch("b1", "production-1", calls)])
    draft_with(world, "1", state="retired")
    said = words(admin.get("/review").text)
    assert "Sailings 1 deprecated → retired" in said
    assert "Every call is answered 410. Callers are told that version 2 takes its place." in said
    assert re.search(r"No subscription\. 7 calls in 7 days, the last \d+ min ago ?, by kiosk\.", said)
    draft_with(world, "1", state="deprecated")
    draft_with(world, "2", state="deprecated")
    assert "No call in 7 days." in words(admin.get("/review").text)


def test_a_step_that_cannot_be_taken_is_refused_by_form_review_and_rollout(admin: FlaskClient, world: Session) -> None:
    typed = {"title": "Sailings", "base_path": "/sailings/v2", "backend": "timetable", "state": "draft"}
    answer = admin.post("/apis/sailings/2/description", data=typed)
    assert answer.status_code == 422
    assert "it runs in production and is published there, so it cannot become draft" in words(answer.text)
    draft_with(world, "2", state="draft")
    page = admin.get("/review").text
    assert "Sailings 2 is published and cannot become draft: callers were promised it" in page
    with pytest.raises(rolling.NotFit, match="cannot become draft"):
        rolling.roll_out(world, COMMAND_LINE, "production")


def test_going_back_to_an_earlier_rollout_is_never_held_up(world: Session) -> None:
    was = rolling.running(world, "production")
    assert was is not None
    assert was.number is not None
    draft_with(world, "1", state="retired")
    rolling.roll_out(world, COMMAND_LINE, "production")
    draft_with(world, "1", state="draft")
    rolling.roll_out(world, COMMAND_LINE, "production")
    assert rolling.roll_back(world, COMMAND_LINE, was.number).back_to == was.number


def test_a_new_version_begins_as_a_copy_and_is_published_in_place_of_the_earlier_one(
    admin: FlaskClient, world: Session
) -> None:
    form = admin.get("/apis/sailings/2/new-version/").text
    assert ('value="3"' in form, 'value="/sailings/v3"' in form) == (True, True)
    taken = admin.post("/apis/sailings/2/new-version/", data={"label": "1", "base_path": "/sailings/v1", "backend": ""})
    assert taken.status_code == 422
    assert "two versions" in taken.text
    assert "already the base path of" in taken.text
    typed = {"label": "3", "base_path": "/sailings/v3", "backend": "@mock"}
    assert admin.post("/apis/sailings/2/new-version/", data=typed | {"act": "check"}).status_code == 200
    assert admin.get("/apis/sailings/3/").status_code == 404
    assert admin.post("/apis/sailings/2/new-version/", data=typed).status_code == 303
    assert "Nothing of it is rolled out yet." in admin.get("/apis/sailings/3/description").text
    publish = {"title": "Sailings", "base_path": "/sailings/v3", "backend": "", "state": "published", "deprecates": "2"}
    gone = admin.post("/apis/sailings/3/description", data=publish | {"deprecates": "1"})
    assert (gone.status_code, "version 1 is not published" in gone.text) == (422, True)
    assert admin.post("/apis/sailings/3/description", data=publish).status_code == 303
    found = drafting.load_configuration(world).api("sailings")
    assert found is not None
    assert [(one.version, one.state, one.successor) for one in found.versions] == [
        ("1", "deprecated", "2"), ("2", "deprecated", "3"), ("3", "published", "")]  # fmt: skip
    said = words(admin.get("/review").text)
    assert "Sailings 2 published → deprecated" in said
    assert "Starts to take calls Sailings 3" in said
