"""Traffic in the console: the overview, the list of calls, and the story of one."""

import json
import re
from datetime import UTC, datetime, timedelta

import psycopg
import pytest
from flask.testing import FlaskClient

from core.test_traffic import record
from tamarack.settings import Settings
from tamarack.store.recording import take_in
from tamarack.web.pictures import minutes_passed


@pytest.fixture
def traffic(settings: Settings) -> str:
    """Ninety calls of the last minutes, ten of them refused; returns the id of one that was."""
    start = datetime.now(UTC) - timedelta(minutes=3)
    made = []
    for place in range(90):
        at = start + timedelta(seconds=place)
        refused = place % 9 == 0
        made.append(
            record(
                int(at.timestamp() * 1_000_000), 20_000, id=f"{int(at.timestamp() * 1000):011x}abc{place:06x}",
                environment="production", api="sailings", version="2", operation="get /sailings", method="GET",
                path="/sailings/v2/sailings", application="kiosk", organization="ticket-office", plan="passage/cutter",
                status=429 if refused else 200, reason="over-plan" if refused else "", rollout=2,
            )
        )  # fmt: skip
    with psycopg.connect(settings.database, autocommit=True) as connection:
        take_in(connection, "b", "production-1", made)
    return made[9].id


def test_the_overview_counts_calls_and_names_the_reasons(admin: FlaskClient, traffic: str) -> None:
    page = admin.get("/traffic/?span=hour").text
    assert "<dd>90</dd>" in page
    assert "11\u202f%" in page
    assert "over-plan" in page
    assert "kiosk" in page
    assert "20\u202fms" in page
    classes = admin.get("/traffic/?span=hour&by=class").text
    assert all(f"</svg>{label}</span>" in classes for label in ("2xx", "3xx", "4xx", "5xx"))
    assert re.search(r"[1-9]\d* 2xx, 0 3xx, [1-9]\d* 4xx, 0 5xx", classes)
    live = admin.get("/traffic/?span=hour&part=live&api=sailings").text
    assert "<html" not in live
    assert "data-points" in live


def test_calls_are_filtered_and_one_is_found_by_its_id(admin: FlaskClient, traffic: str) -> None:
    refused = admin.get("/traffic/calls?outcome=refused").text
    assert refused.count("data-href") == 10
    assert admin.get("/traffic/calls?status=2xx&path=sailings").text.count("data-href") == 50
    assert "Older" in admin.get("/traffic/calls").text
    assert admin.get("/traffic/calls?api=fares").text.count("data-href") == 0
    found = admin.get(f"/traffic/calls?id={traffic}")
    assert found.location.endswith(traffic)
    story = admin.get(found.location).text
    assert "The plan&#39;s limit is used up" in story or "the plan&#39;s limit is used up" in story
    assert "change to a plan that allows more" in story
    assert "What holds there now" in story
    assert f"/traffic/calls/{traffic}" in admin.get(f"/find?q={traffic}").text


def test_a_call_that_is_not_there_says_so(admin: FlaskClient) -> None:
    assert "is recorded" in admin.get("/traffic/calls?id=0000").text
    assert admin.get("/traffic/calls/0123456789abcdef").status_code == 404
    assert admin.get("/traffic/calls?after=nonsense&first=nonsense").status_code == 200


def test_the_rate_of_a_point_that_still_runs_is_that_of_its_part() -> None:
    start = datetime(2026, 11, 23, 10, tzinfo=UTC)
    hour = timedelta(hours=1)
    assert minutes_passed(start, hour, start + timedelta(hours=5)) == 60
    assert minutes_passed(start, hour, start + timedelta(minutes=12)) == 12
    assert minutes_passed(start, hour, start - timedelta(minutes=1)) == pytest.approx(1 / 3)


def test_an_exploration_is_drawn_narrowed_and_handed_over(admin: FlaskClient, settings: Settings) -> None:
    at = int(datetime.now(UTC).timestamp() * 1_000_000)
    rows = [
        record(at + number, id=f"{number:024x}", environment="production", api=api, version="1", status=status,
               application="=cmd()" if number == 4 else "kiosk", reason="over-plan" if status == 429 else "")
        for number, (api, status) in enumerate([("sailings", 200)] * 3 + [("fares", 429)] * 2)
    ]  # fmt: skip
    with psycopg.connect(settings.database, autocommit=True) as connection:
        take_in(connection, "explored", "n", rows)
    where = "/traffic/explore/"
    page = admin.get(f"{where}?split=api&span=hour").text
    assert "<svg" in page
    assert "sailings" in page
    narrower = re.search(r'data-href="([^"]*api\+is\+fares[^"]*)"', page)
    assert narrower is not None
    narrowed = admin.get(narrower[1].replace("&amp;", "&")).text
    assert "api is fares" in narrowed
    table = admin.get(f"{where}csv?split=api&split=application&measure=error+share&span=hour").text.splitlines()
    assert table[0] == "start,api,application,calls,error share"
    assert any(line.endswith("sailings,kiosk,3,0.0") for line in table)
    assert any(",'=cmd()," in line for line in table)
    lines = [json.loads(line) for line in admin.get(f"{where}jsonl?split=api&span=hour").text.splitlines()]
    assert sum(line["calls"] for line in lines) == 5
    wrong = admin.get(f"{where}?where=colour+is+red")
    assert "is not a field of calls" in wrong.text
    assert "colour is red</textarea>" in wrong.text
    assert admin.get(f"{where}csv?measure=joy").status_code == 422
    assert "No call matches" in admin.get(f"{where}?where=api+is+nothing").text
