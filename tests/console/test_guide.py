"""The guide to an API's first call: each step done where one stands, counted as done however it was, gone in the end."""

import re

import psycopg
import pytest
from flask.testing import FlaskClient
from sqlmodel import Session, select

from core.traffic.test_traffic import record
from tamarack.core.configuration.model import Api
from tamarack.settings import Settings
from tamarack.store.applications.tables import Application, Credential, Subscription
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.draft import queries as drafting
from tamarack.store.rollouts import queries as rolling
from tamarack.store.traffic.recording import Batch, take_in

PAGE = "/apis/tides/1/"
GUIDE = "/apis/tides/1/guide"


@pytest.fixture
def tides(world: Session) -> Api:
    """An API that was just brought in."""
    version = {"version": "1", "state": "published", "base_path": "/tides/v1", "backend": "timetable",
               "operations": [{"call": "get /tides"}, {"call": "get /tides/{port}"}]}  # fmt: skip
    made = Api.model_validate({"name": "tides", "title": "Tides", "versions": [version]})
    drafting.save(world, COMMAND_LINE, "api", "tides", made, "brought in")
    world.commit()
    return made


def step(client: FlaskClient) -> str:
    """The step that the guide asks for next."""
    found = re.search(r'aria-current="step" class="">([^<]*)<', client.get(PAGE).text)
    return found[1].strip() if found else ""


def test_the_guide_leads_from_a_new_api_to_its_first_call(
    admin: FlaskClient, world: Session, settings: Settings, tides: Api
) -> None:
    assert step(admin) == "Say who may call"
    assert admin.post(f"{GUIDE}/protect", data={"by": "key", "header": "x tide"}, follow_redirects=True).text.count(
        "is not a header field name"
    )
    admin.post(f"{GUIDE}/protect", data={"by": "key", "header": "x-tide"})
    assert step(admin) == "Offer it in a plan"
    assert "is not a limit" in admin.post(f"{GUIDE}/offer", data={"limits": "some"}, follow_redirects=True).text
    admin.post(f"{GUIDE}/offer", data={"limits": "10 per second"})
    assert step(admin) == "Register an application"
    form = {"title": "", "organization": "", "organization_title": "Harbour Lights", "plan": "tides/standard"}
    assert "is missing; give it 1 to 80" in admin.post(f"{GUIDE}/application", data=form, follow_redirects=True).text
    assert step(admin) == "Register an application", "nothing of it stays"
    admin.post(f"{GUIDE}/application", data=form | {"title": "Tide Clock"})
    world.expire_all()
    made = world.exec(select(Application).where(Application.title == "Tide Clock")).one()
    assert world.exec(select(Subscription).where(Subscription.application_id == made.id)).one().state == "active"
    assert step(admin) == "Roll out to production"
    mark = re.search(r'name="mark"\s+value="([^"]+)"', admin.get(PAGE).text)
    assert mark is not None
    rolled = admin.post("/review", data={"environment": "production", "mark": mark[1], "next": PAGE})
    assert rolled.location == PAGE
    assert rolling.running_configuration(world, "production").api("tides") is not None
    assert step(admin) == "Make the first call"
    assert "YOUR-KEY" in admin.get(PAGE).text
    admin.post(f"{GUIDE}/key")
    page = admin.get(PAGE).text
    key = re.search(r"x-tide: (tmk_\w+)", page)
    assert key is not None
    assert key[1] in admin.get(PAGE).text, "it stays in the call for a while"
    assert "/tides/v1/tides" in page
    world.expire_all()
    assert world.exec(select(Credential).where(Credential.application_id == made.id)).one().made_by
    assert "Waiting for the call" in admin.get(f"{GUIDE}/arrived").text
    refused = record(1_790_000_000_000_000, api="tides", version="1", operation="get /tides", status=401,
                     reason="unknown-credential", environment="production")  # fmt: skip
    with psycopg.connect(settings.database, autocommit=True) as connection:
        take_in(connection, [Batch("b1", "n", [refused])])
        assert "answered 401, unknown-credential" in admin.get(f"{GUIDE}/arrived").text
        assert step(admin) == "Make the first call", "a refused call is not yet one"
        passed = refused._replace(at=refused.at + 1_000_000, id="later", status=200, reason="")
        take_in(connection, [Batch("b2", "n", [passed])])
    assert "It came through" in admin.get(f"{GUIDE}/arrived").text
    assert step(admin) == ""


def test_where_tokens_name_the_caller_the_guide_registers_the_name(
    admin: FlaskClient, world: Session, tides: Api
) -> None:
    jwt = {"level": "api", "kind": "jwt", "name": "jwt", "old_name": "", "keys_from": "a shared secret",
           "algorithms": ["HS256"], "new_secret": "tide-signing", "new_value": "x" * 40,
           "issuer": "https://tide.skerry.example"}  # fmt: skip
    admin.post("/apis/tides/1/policies/save", data=jwt)
    admin.post(f"{GUIDE}/offer", data={"limits": "10 per second"})
    form = {"title": "Tide Clock", "organization_title": "Harbour Lights", "plan": "tides/standard"}
    admin.post(f"{GUIDE}/application", data=form)
    mark = re.search(r'name="mark"\s+value="([^"]+)"', admin.get(PAGE).text)
    assert mark is not None
    admin.post("/review", data={"environment": "production", "mark": mark[1], "next": PAGE})
    page = admin.get(PAGE).text
    assert "Bearer YOUR-TOKEN" in page
    assert "Tokens of https://tide.skerry.example name" in page
    assert "1 to 200 characters" in admin.post(f"{GUIDE}/identity", data={"name": " "}, follow_redirects=True).text
    admin.post(f"{GUIDE}/identity", data={"name": "tide-clock"})
    assert "Register this" not in admin.get(PAGE).text
    made = world.exec(select(Credential).where(Credential.kind == "outside-identity")).one()
    assert (made.public, made.issuer, made.environment) == ("tide-clock", "https://tide.skerry.example", "production")


def test_steps_done_elsewhere_count_and_an_open_api_needs_no_caller(admin: FlaskClient, tides: Api) -> None:
    admin.post(f"{GUIDE}/offer", data={"product": "passage"})
    admin.post(f"{GUIDE}/protect", data={"by": "open"})
    assert step(admin) == "Roll out to production"
    page = admin.get(PAGE).text
    assert page.count('aria-label="done"') == 3


def test_the_guide_is_dismissed_and_is_for_those_who_may_edit(
    admin: FlaskClient, console: FlaskClient, tides: Api
) -> None:
    assert step(admin) == "Say who may call"
    admin.post(f"{GUIDE}/dismiss")
    assert step(admin) == ""
