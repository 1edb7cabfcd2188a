"""Logged prompts in the console: who may read them, what is noted, comparing them, and deleting what is listed."""

import re
from pathlib import Path

import pytest
from flask.testing import FlaskClient
from sqlalchemy import Engine
from sqlmodel import Session, select

from helpers import sign_in
from store.test_prompts import logged, take_in
from tamarack.settings import Settings
from tamarack.store.audit.tables import AuditEntry

DELETE = {"api": "", "application": "", "search": "late"}


@pytest.fixture
def prompts(settings: Settings, tmp_path: Path) -> None:
    take_in(settings, tmp_path, logged("c1", "Is it <b>late</b>?"), logged("c2", "Is it early?", model=""),
            logged("c3", "Is it late by now?", status=429, reason="over-tokens", answer=""))  # fmt: skip


def noted(engine: Engine) -> list[tuple[str, str]]:
    with Session(engine) as session:
        every = session.exec(select(AuditEntry).order_by(AuditEntry.id)).all()  # type: ignore[arg-type]
        return [(one.action, one.subject) for one in every if "logged prompts" in one.action]


def test_who_may_not_read_prompts_is_shown_no_way_to_them(console: FlaskClient, prompts: None) -> None:
    sign_in(console, "s.heath@skerry.example", "lichen-grey-23")
    assert console.get("/traffic/prompts/").status_code == 403
    assert console.get("/traffic/prompts/c1").status_code == 403
    assert console.post("/traffic/prompts/forget", data=DELETE).status_code == 403
    assert ">Prompts<" not in console.get("/kept/").text
    assert "late" not in console.get("/kept/compare/?recorded=1").text.split("<textarea")[1].split("</textarea>")[0]


def test_prompts_are_listed_read_and_compared_and_each_time_it_is_noted(
    admin: FlaskClient, engine: Engine, prompts: None
) -> None:
    assert noted(engine) == []
    page = admin.get("/traffic/prompts/?search=late").text
    assert "Is it &lt;b&gt;late&lt;/b&gt;?" in page and "early" not in page and ">Prompts<" in page
    assert "No prompt is kept of that" in admin.get("/traffic/prompts/?application=a/b").text
    one = admin.get("/traffic/prompts/c1").text
    assert "Be brief" in one and "&lt;b&gt;late" in one and "It is 100% on time" in one
    assert "over-tokens" in admin.get("/traffic/prompts/c3").text
    missing = admin.get("/traffic/prompts/none")
    assert missing.status_code == 404 and "No prompt is kept of the call none" in missing.text
    compared = admin.get("/kept/compare/?recorded=1&api=announcements").text
    assert "Is it early?" in compared.split("<textarea")[1].split("</textarea>")[0]
    of = "ticket-office/counter-desk"
    assert [subject for _, subject in noted(engine)] == ["all", of, of, "announcements"]


def test_what_is_listed_is_deleted_and_only_where_nothing_came_meanwhile(
    admin: FlaskClient, engine: Engine, prompts: None
) -> None:
    page = admin.get("/traffic/prompts/?search=late").text
    assert "Delete these 2 prompts" in page
    form = DELETE | {"csrf_token": re.findall(r'name="csrf_token" value="([^"]+)"', page)[0]}
    stale = admin.post("/traffic/prompts/forget", data=form | {"sure": "1"}, follow_redirects=True)
    assert "More prompts came meanwhile" in stale.text
    gone = admin.post("/traffic/prompts/forget", data=form | {"sure": "2"}, follow_redirects=True)
    assert "2 prompts deleted, with their answers" in gone.text
    assert "Is it early?" in admin.get("/traffic/prompts/").text
    assert ("delete logged prompts", "late") in noted(engine)


def test_an_empty_log_says_how_it_fills(admin: FlaskClient) -> None:
    assert "only where the policy prompt log says so" in admin.get("/traffic/prompts/").text
