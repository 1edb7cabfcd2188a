"""The life of a version: copied onto mocks, published in the earlier one's place, and the earlier one retired."""

import json
import re

import pytest
from playwright.sync_api import Page, expect

from journeys.conftest import Installation, sign_in
from journeys.test_answering_path import ask
from tamarack.demo.world import STAFF

pytestmark = pytest.mark.journey

ADMIN = STAFF[0]
LEAD = ("a.quay@skerry.example", "counter-desk-88")
DESCRIPTION = "/apis/fares/{}/description"


def roll_out(demo: Installation, page: Page, *said: str) -> None:
    """Roll the draft out to production, after the review has said what it does."""
    page.goto(f"{demo.console}/review")
    for words in said:
        expect(page.get_by_role("complementary")).to_contain_text(words)
    page.get_by_role("button", name="Roll out to production").click()
    expect(page.get_by_text("Every node that responds is running it.")).to_be_visible()


def test_the_next_version_takes_the_place_of_one_whose_callers_are_told(demo: Installation, page: Page) -> None:
    sign_in(page, demo.console, ADMIN.email, ADMIN.password)
    page.goto(f"{demo.console}/review")
    before = page.get_by_text("The draft against rollout").get_by_role("link").inner_text()
    # the next version begins as a copy, answered by mocks until its backend is there
    page.goto(demo.console + DESCRIPTION.format(1))
    page.get_by_role("link", name="Make a new version").click()
    expect(page.get_by_label("Base path on the gateway")).to_have_value("/fares/v2")
    page.get_by_label("Backend").select_option(label="none yet: mocks answer from the description")
    page.get_by_role("button", name="Make it in the draft").click()
    expect(page.get_by_text("Fares 2 is a draft now, a copy of version 1")).to_be_visible()
    # published, it deprecates the earlier one in the same step
    expect(page.get_by_label("In the same step, deprecate")).to_be_hidden()
    page.get_by_label("State of version 2").select_option("published")
    page.get_by_label("In the same step, deprecate").select_option("1")
    page.get_by_role("button", name="Save to the draft").click()
    page.goto(demo.console + DESCRIPTION.format(1))
    page.get_by_label("Answers until").fill("2001-01-01")
    page.get_by_label("Answers until").blur()
    expect(page.get_by_text("2001-01-01 lies before")).to_be_visible()
    page.get_by_label("Answers until").fill("2098-06-30")
    page.get_by_role("button", name="Save to the draft").click()
    roll_out(demo, page, "Fares 1 published → deprecated", "Starts to take calls", "Calls are answered as before.")
    # who is subscribed goes on calling, and reads when it ends and where to go
    status, fields, _ = ask(demo, "/fares/v1/tariffs", "kiosk")
    assert (status, fields["sunset"]) == (200, "Mon, 30 Jun 2098 00:00:00 GMT")
    assert re.fullmatch(r"@\d+", fields["deprecation"])
    assert fields["link"].startswith('</fares/v2>; rel="successor-version"')
    assert ask(demo, "/fares/v2/tariffs", "kiosk")[0] == 200
    reader = page.context.browser.new_page()  # type: ignore[union-attr]
    reader.goto(f"{demo.portal}/apis/fares/1/")
    expect(reader.get_by_role("heading", name="Fares")).to_have_count(0)  # nobody new comes to it
    sign_in(reader, demo.portal, *LEAD)
    reader.goto(f"{demo.portal}/apis/fares/1/")
    expect(reader.get_by_text("answers until 30 June 2098")).to_be_visible()
    reader.get_by_role("main").get_by_role("link", name="Version 2", exact=True).click()
    expect(reader).to_have_url(re.compile("/apis/fares/2/"))
    reader.close()
    # retired, it answers with what takes its place; it cannot become a draft while it runs
    page.goto(demo.console + DESCRIPTION.format(1))
    page.get_by_label("State of version 1").select_option("draft")
    expect(page.get_by_text("retire it, and they are told what takes its place")).to_be_visible()
    page.get_by_label("State of version 1").select_option("retired")
    expect(page.get_by_text("retire it, and they are told what takes its place")).to_be_hidden()
    page.get_by_role("button", name="Save to the draft").click()
    roll_out(demo, page, "Callers are told that version 2 takes its place.", "calls in 7 days, the last")
    status, fields, body = ask(demo, "/fares/v1/tariffs", "kiosk")
    assert (status, fields["link"]) == (410, '</fares/v2>; rel="successor-version"')
    assert (
        json.loads(body)["detail"] == "Version 1 of Fares is no longer offered; version 2 at /fares/v2 takes its place."
    )
    # and all of it is taken back
    page.goto(f"{demo.console}/rollouts/{before}")
    page.get_by_role("button", name="Roll back to this").click()
    expect(page.get_by_text("Every node that responds is running it.")).to_be_visible()
    assert ask(demo, "/fares/v1/tariffs", "kiosk")[0] == 200
    page.goto(f"{demo.console}/review")
    page.get_by_role("listitem").filter(has_text="Fares").get_by_role("button", name="Discard").first.click()
    expect(page.get_by_text("The draft of api fares says what production runs.")).to_be_visible()
