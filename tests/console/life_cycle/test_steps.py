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
    taken = admin.post(
        "/apis/sailings/2/new-version/",
        data={"label": "1", "base_path": "/sailings/v1", "backend": "", "with_policies": "yes"},
    )
    assert taken.status_code == 422
    assert "two versions" in taken.text
    assert "already the base path of" in taken.text
    typed = {
        "label": "3",
        "base_path": "/sailings/v3",
        "backend": "@mock",
        "with_policies": "yes",
        "with_answers": "yes",
    }
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


def test_versions_share_a_base_path_where_calls_name_them_otherwise(admin: FlaskClient, world: Session) -> None:
    typed = {"title": "Sailings", "base_path": "/sailings/v1", "backend": "timetable", "state": "published"}
    taken = admin.post("/apis/sailings/2/description", data=typed)
    assert (taken.status_code, "already the base path of Sailings 1" in taken.text) == (422, True)
    named = typed | {"naming": "header", "naming_name": "X-Sailings", "naming_default": "2"}
    for field, value, words_of in (
        ("naming_name", "host", "a meaning of its own"),
        ("naming_default", "9", "no version"),
    ):
        wrong = admin.post("/apis/sailings/2/description", data=named | {field: value})
        assert (wrong.status_code, words_of in wrong.text, "X-Sailings" in wrong.text or field == "naming_name") == (
            422,
            True,
            True,
        )
    assert admin.post("/apis/sailings/2/description", data=named).status_code == 303
    found = drafting.load_configuration(world).api("sailings")
    assert found is not None
    assert found.naming is not None
    assert (found.naming.called, found.naming.default) == ("x-sailings", "2")
    assert "Sailings its versions are named by the header x-sailings, 2 where none is named" in words(
        admin.get("/review").text
    )
    assert "x-sailings: 2" in admin.get("/apis/sailings/2/bench/").text
    assert "header x-sailings" in words(admin.get("/apis/sailings/2/description").text)


def test_a_preview_is_opened_to_some_and_brown_outs_are_planned_in_the_form(admin: FlaskClient, world: Session) -> None:
    typed = {"title": "Freight Bookings", "base_path": "/freight/v2", "backend": "", "state": "preview",
             "trial_limits": "60 per minute"}  # fmt: skip
    page = "/apis/freight-bookings/2/description"
    for changes, error in (
        ({"trial": "invited"}, "nobody is invited"),
        ({"trial": "invited", "trial_invited": "nobody-here"}, "there is no organization &#39;nobody-here&#39;"),
        ({"trial": "everyone", "trial_limits": "often"}, "is not a limit"),
        ({"trial": "everyone", "trial_limits": ""}, "at least 1 item"),
        ({"brown_outs": "soon"}, "is not a brown-out"),
    ):
        wrong = admin.post(page, data=typed | changes)
        assert (wrong.status_code, error in wrong.text) == (422, True), changes
    chosen = {"trial": "invited", "trial_invited": ["tern-trips"], "trial_limits": "5 per second", "summary": "Room on deck",
              "brown_outs": "2098-02-03 09:00 for 15 minutes\n"}  # fmt: skip
    assert admin.post(page, data=typed | chosen).status_code == 303
    found = drafting.load_configuration(world).api("freight-bookings")
    assert found is not None
    version = found.versions[0]
    assert version.trial is not None
    assert (version.trial.invited, list(map(str, version.trial.limits))) == (("tern-trips",), ["5 per second"])
    assert list(map(str, version.brown_outs)) == ["2098-02-03 09:00 for 15 minutes"]
    said = words(admin.get("/review").text)
    assert "as a preview open to tern-trips (5 / s) instead of anyone (60 / min)" in said
    assert "brown-outs from none to 2098-02-03 09:00 for 15 minutes" in said
    assert 'value="tern-trips" checked' in admin.get(page).text
