"""The fields of a graph in the console: each with its use, those that nobody uses, and who still asks for one."""

from pathlib import Path

import pytest
from flask.testing import FlaskClient
from sqlalchemy import Engine

from store.test_graph_use import row, ship

PATH = "/apis/fleet-graph/1/fields/"


@pytest.fixture
def used(engine: Engine, tmp_path: Path) -> None:
    assert ship(engine, tmp_path, "b1", row("Vessel.oldName", calls=41), row("Vessel.title"), row("Vessel.gone")) == []


def test_fields_are_listed_with_their_use_and_who_asks_for_one(admin: FlaskClient, used: None) -> None:
    page = admin.get(PATH).text
    assert "Vessel.oldName" in page and ">41<" in page and "deprecated" in page and "Berth.lengthMetres" in page
    assert "Vessel.gone" in page and "not in the schema any more" in page
    unused = admin.get(PATH + "?show=unused").text
    assert "Berth.lengthMetres" in unused and "Vessel.title" not in unused
    assert "Vessel.title" not in admin.get(PATH + "?show=deprecated").text
    who = admin.get(PATH + "?field=Vessel.oldName").text
    assert "Who asks for" in who and "ticket-office/kiosk" in who
    assert "Nobody in 30 days" in admin.get(PATH + "?field=Berth.id&show=odd&days=x").text


def test_only_a_graph_has_fields(admin: FlaskClient) -> None:
    assert admin.get("/apis/sailings/2/fields/").status_code == 404
    assert ">Graph</a>" in admin.get("/apis/fleet-graph/1/").text.replace("\n", "")
    assert ">Graph</a>" not in admin.get("/apis/sailings/2/").text.replace("\n", "")
