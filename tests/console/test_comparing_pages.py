"""Comparing versions in the console: what breaks, whom it touches, files, and the word of the review."""

import json

import psycopg
from flask.testing import FlaskClient
from sqlmodel import Session

from core.traffic.test_traffic import record
from tamarack.core.openapi.read import describe
from tamarack.settings import Settings
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.columns import now
from tamarack.store.documents import queries as documents
from tamarack.store.draft import queries as drafting
from tamarack.store.traffic.recording import Batch, take_in

PAGE = "/apis/sailings/2/compare/"


def test_two_versions_are_compared_with_who_called_what_breaks(
    admin: FlaskClient, world: Session, settings: Settings
) -> None:
    at = int(now().timestamp() * 1_000_000) - 3_600_000_000
    calls = [record(at + number, id=f"c{number}", api="sailings", version="1", operation="get /sailings", environment="production",
                    organization="ticket-office", application="kiosk") for number in range(7)]  # fmt: skip
    with psycopg.connect(settings.database, autocommit=True) as connection:
        take_in(connection, [Batch("b1", "production-1", calls)])
    page = admin.get(f"{PAGE}?against=1").text
    assert "Breaks callers" in page
    assert "is object instead of array" in page
    assert "<b>kiosk</b>" in page
    assert "Nobody called it in 7 days." in page
    markdown = admin.get(f"{PAGE}?against=1&form=markdown")
    assert markdown.headers["Content-Disposition"] == 'attachment; filename="sailings-1-to-2.md"'
    assert markdown.text.startswith("# Sailings 1 → Sailings 2")
    data = json.loads(admin.get(f"{PAGE}?against=1&form=json").text)
    assert data["verdict"] == "breaking"
    assert {"get /sailings", "get /ports"} <= {one["call"] for one in data["differences"]}
    assert "Both descriptions mean the same." in admin.get(f"{PAGE}?against=running").text
    assert "no such version" in admin.get(f"{PAGE}?against=nothing").text
    assert "Nothing to compare with" not in admin.get("/apis/fares/1/compare/").text


def test_the_review_says_where_a_new_description_breaks_callers(admin: FlaskClient, world: Session) -> None:
    assert "Described anew" not in admin.get("/review").text
    draft = drafting.load_configuration(world)
    fares = draft.api("fares")
    assert fares is not None
    text = documents.document_text(world, fares.versions[0].document)
    assert text is not None
    changed = text.replace("/tariffs/{id}", "/rates/{id}")
    sha256 = documents.keep_document(world, changed)
    documents.take_in(world, sha256, describe(changed))
    version = fares.versions[0].model_copy(update={"document": sha256})
    drafting.save(world, COMMAND_LINE, "api", "fares", fares.model_copy(update={"versions": (version,)}), "changed")
    world.commit()
    page = admin.get("/review").text
    assert "Described anew" in page
    assert "1 breaking, 1 harmless" in page
    compared = admin.get("/apis/fares/1/compare/?against=running").text
    assert "get /tariffs/{id}" in compared
    assert "calls to an operation that is gone fail" in compared
