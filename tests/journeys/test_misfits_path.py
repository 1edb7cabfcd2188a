"""What the description does not know: counted as it passes, seen, and mended from where it is seen."""

import json

import pytest
from playwright.sync_api import Page, expect

from helpers import until
from journeys.conftest import Installation, sign_in
from journeys.test_answering_path import ask
from journeys.test_life_cycle_path import roll_out
from tamarack.demo.world import STAFF

pytestmark = pytest.mark.journey

ADMIN = STAFF[0]
MISFITS = "/apis/fares/1/misfits/"
PASSAGE = {"from": "aldernes", "to": "corran", "day": "2026-12-01"}


def test_misfits_are_counted_seen_described_and_then_refused(demo: Installation, page: Page) -> None:
    sign_in(page, demo.console, ADMIN.email, ADMIN.password)
    page.goto(f"{demo.console}/review")
    before = page.get_by_text("The draft against rollout").get_by_role("link").inner_text()
    # what passes is counted: a value, a parameter, an answer, and paths that are nowhere
    body = json.dumps(PASSAGE | {"vehicle": "tricycle"})
    assert ask(demo, "/fares/v1/quotes", "kiosk", "POST", body, content_type="application/json")[0] == 200
    assert ask(demo, "/fares/v1/tariffs?harbour=corran", "kiosk")[0] == 200
    assert ask(demo, "/fares/v1/timetables/9", "kiosk")[0] == 404

    def rows() -> str:
        page.goto(demo.console + MISFITS)
        return page.locator("main").inner_text()

    wanted = ("request body /vehicle", "request query harbour", "answer body /*/adult", "GET /timetables/{id}")
    until(lambda: all(words in rows() for words in wanted), "the node's counts")
    # the parameter is described from there, and so is the operation
    page.get_by_role("row").filter(has_text="query harbour").get_by_role("link", name="Describe it").click()
    expect(page.locator("[name=name-0]")).to_have_value("harbour")
    page.get_by_role("button", name="Save to the draft").click()
    expect(page.get_by_text("Saved to the draft, with the description.")).to_be_visible()
    page.goto(demo.console + MISFITS)
    page.get_by_role("row").filter(has_text="GET /timetables/{id}").get_by_role("link", name="Add to the draft").click()
    page.get_by_label("Summary").fill("One timetable")
    page.get_by_role("button", name="Save to the draft").click()
    expect(page.get_by_role("navigation", name="Operations")).to_contain_text("/timetables/{id}")
    # and misfits are refused from now on, each with its place
    page.goto(f"{demo.console}/apis/fares/1/")
    page.locator('a[data-policy="request-check"]').click()
    page.get_by_label("A request that does not fit").select_option("refuse")
    page.get_by_role("button", name="Save to the draft").click()
    expect(page.get_by_text("Not rolled out yet.")).to_be_visible()
    roll_out(demo, page)
    status, fields, told = ask(demo, "/fares/v1/quotes", "kiosk", "POST", body, content_type="application/json")
    assert (status, fields["content-type"]) == (400, "application/problem+json")
    problem = json.loads(told)
    assert problem["reason"] == "misfit-request"
    [error] = problem["errors"]
    assert error["pointer"] == "#/vehicle" and "tricycle" not in error["detail"]
    assert ask(demo, "/fares/v1/tariffs?harbour=corran", "kiosk")[0] == 200
    page.goto(f"{demo.console}/rollouts/{before}")
    page.get_by_role("button", name="Roll back to this").click()
    expect(page.get_by_text("Every node that responds is running it.")).to_be_visible()
    page.goto(f"{demo.console}/review")
    page.get_by_role("listitem").filter(has_text="Fares").get_by_role("button", name="Discard").first.click()
    expect(page.get_by_text("The draft of api fares says what production runs.")).to_be_visible()
