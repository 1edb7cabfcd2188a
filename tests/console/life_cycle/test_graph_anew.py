"""Another schema for a graph: compared by field, with who asked for what breaks, and put in the present one's place."""

from pathlib import Path

import pytest
from flask.testing import FlaskClient
from sqlalchemy import Engine
from sqlmodel import Session

from store.test_graph_use import row, ship
from tamarack.core.graphql.described import schema_in
from tamarack.core.openapi.read import describe
from tamarack.store.documents import queries as documents
from tamarack.store.draft import queries as drafting

PATH = "/apis/fleet-graph/1/redescribe/"


def schema(world: Session) -> str:
    """The demo's schema, as the draft has it."""
    world.expire_all()
    version = drafting.load_configuration(world).api("fleet-graph").versions[0]  # type: ignore[union-attr]
    return schema_in(describe(documents.document_text(world, version.document) or "").document)


def test_a_schema_is_compared_by_field_with_who_asked_and_put_in_place(
    admin: FlaskClient, world: Session, engine: Engine, tmp_path: Path
) -> None:
    ship(engine, tmp_path, "b1", row("Vessel.oldName", calls=3))
    before = schema(world)
    changed = before.replace('oldName: String @deprecated(reason: "Ask for title")', "crew: Int")
    handed = admin.post(PATH, data={"text": changed})
    assert handed.status_code == 303
    sha256 = handed.headers["Location"].rstrip("/").rpartition("/")[2]
    text = documents.document_text(world, sha256)
    documents.take_in(world, sha256, describe(text or ""))
    world.commit()
    page = admin.get(PATH + sha256).text
    assert "Vessel.oldName" in page and "is gone" in page and "<b>kiosk</b>" in page
    assert "Vessel.crew" in page and "is new" in page
    assert admin.post(PATH + sha256).status_code == 303
    assert "crew: Int" in schema(world) and "oldName" not in schema(world)


@pytest.mark.parametrize(
    ("text", "words"),
    [("type Query { a: Lamp }", "Unknown type &#39;Lamp&#39;. (line 1)"), ("{", "begins like JSON"),
     ("type Query {", "Syntax Error")],
)  # fmt: skip
def test_a_schema_that_cannot_be_read_is_told_and_kept(admin: FlaskClient, text: str, words: str) -> None:
    page = admin.post(PATH, data={"text": text})
    assert page.status_code == 422 and words in page.text and text in page.text


def test_a_whole_description_is_taken_as_it_is(admin: FlaskClient, world: Session) -> None:
    text = documents.document_text(
        world, drafting.load_configuration(world).api("fleet-graph").versions[0].document  # type: ignore[union-attr]
    )  # fmt: skip
    handed = admin.post(PATH, data={"text": text})
    assert handed.headers["Location"].rstrip("/").endswith(documents.name_of(text or ""))
