"""A third environment: made, given a node, rolled out to in parts and whole, subscribed to, compared, and removed."""

import pytest
from playwright.sync_api import Page, expect

from helpers import until
from journeys.conftest import Installation, sign_in
from journeys.nodes.place import READY_WITHIN_MS, Place
from tamarack.demo.world import ORGANIZATIONS, STAFF

pytestmark = pytest.mark.journey


def test_a_third_environment_is_made_rolled_out_to_compared_and_removed(
    demo: Installation,
    page: Page,
    place: Place,
) -> None:
    sign_in(page, demo.console, STAFF[0].email, STAFF[0].password)
    page.goto(demo.console)
    page.get_by_role("link", name="Nodes").click()
    page.get_by_role("link", name="Environments").click()
    page.get_by_role("link", name="Make an environment").click()
    page.get_by_label("Name", exact=True).fill("staging")
    page.get_by_label("What it is for").fill("Partners try changes here")
    page.get_by_label("Offered on the portal").check()
    page.get_by_role("button", name="Make it").click()
    expect(page.get_by_text("The environment staging is there")).to_be_visible()
    expect(page.locator(".where").get_by_text("staging")).to_be_visible()
    _gets_a_node(page, place)
    _gets_one_version_then_all(page, demo)
    key = _is_subscribed_to(page, demo, place)
    until(lambda: place.get("/sailings/v2/ports", key, agent="jetty").status == 200, "the new key to be known", 30)
    page.goto(f"{demo.console}/traffic/calls?environment=staging")
    until(lambda: page.reload() is not None and page.get_by_text("/sailings/v2/ports").count() > 0, "the call", 60)
    _is_removed(page, demo, place, key)


def _gets_a_node(page: Page, place: Place) -> None:
    page.get_by_role("link", name="add one").click()
    expect(page.get_by_label("Environment", exact=True).locator("option:checked")).to_have_text("staging")
    page.get_by_role("button", name="Make the command").click()
    page.get_by_text("Step by step", exact=True).click()
    place.run_step_by_step(page.locator("#way-hand").inner_text(), "staging-1")
    expect(page.get_by_text("It serves as soon as something is rolled out to staging")).to_be_visible(
        timeout=READY_WITHIN_MS
    )


def _gets_one_version_then_all(page: Page, demo: Installation) -> None:
    page.goto(f"{demo.console}/review?environment=staging&source=test")
    expect(page.get_by_text("What test runs against staging, where nothing runs yet")).to_be_visible()
    page.get_by_label("of it").select_option(label="only Sailings 2")
    expect(page.get_by_text("Sailings is new, with 6 operations at /sailings/v2")).to_be_visible()
    expect(page.get_by_text("Berths is new, with")).to_have_count(0)
    page.get_by_role("button", name="Roll out to staging").click()
    expect(page.get_by_text("Every node that responds is running it")).to_be_visible()

    page.goto(f"{demo.console}/environments")
    page.get_by_role("listitem").filter(has_text="test to staging").get_by_role("link").click()
    expect(page.get_by_role("heading", name="test against staging")).to_be_visible()
    expect(page.get_by_text("Berths is new, with")).to_be_visible()
    page.get_by_role("link", name="Review for staging").click()
    page.get_by_role("button", name="Roll out to staging").click()
    expect(page.get_by_text("Every node that responds is running it")).to_be_visible()
    page.goto(f"{demo.console}/environments/compare?first=test&second=staging")
    expect(page.get_by_text("test and staging run the same")).to_be_visible()


def _is_subscribed_to(page: Page, demo: Installation, place: Place) -> str:
    """An application's key for the new environment, made on the portal, where the call that is shown goes to its node."""
    lead = next(one for one in ORGANIZATIONS if one.name == "tern-trips").people[0]
    sign_in(page, demo.portal, lead.email, lead.password)
    page.goto(f"{demo.portal}/apis/sailings/2/")
    page.get_by_role("link", name="Subscribe").first.click()
    page.get_by_label("Name of the new application").fill("Staging Planner")
    page.get_by_label("a new one:").check()
    page.get_by_label("staging").check()
    page.get_by_role("button", name="Subscribe").click()
    expect(page.locator("pre").filter(has_text="curl").first).to_contain_text(f":{place.port}/sailings/v2")
    return page.locator("#key").inner_text().strip()


def _is_removed(page: Page, demo: Installation, place: Place, key: str) -> None:
    page.goto(f"{demo.console}/environments/of/staging")
    page.get_by_text("Remove it", exact=True).click()
    for ends in ("ends 1 node: staging-1", "ends 1 subscription", "revokes 1 credential"):
        expect(page.get_by_text(ends)).to_be_visible()
    page.get_by_role("button", name="Remove staging").click()
    expect(page.get_by_text("Type staging, so that none other is removed")).to_be_visible()
    page.get_by_label("Type its name to remove it").fill("staging")
    page.get_by_role("button", name="Remove staging").click()
    expect(page.get_by_text("The environment staging was removed")).to_be_visible()
    expect(page.locator(".where").get_by_text("staging")).to_have_count(0)
    process = place.process
    assert process is not None
    assert process.wait(30) == 78, place.said
