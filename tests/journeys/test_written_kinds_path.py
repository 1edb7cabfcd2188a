"""A kind of one's own: written, tried, placed, copied, put in order, seen on real calls and in the portal, taken back."""

import json

import pytest
from playwright.sync_api import Browser, Page, expect

from journeys.conftest import Installation, sign_in
from journeys.test_answering_path import ask
from journeys.test_life_cycle_path import roll_out
from journeys.test_shaping_path import FARES, LEAD, place
from tamarack.demo.world import STAFF

pytestmark = pytest.mark.journey

ADMIN = STAFF[0]
STEPS = """when params.strict && has(query.season) && !query.season.matches("^[a-z]+$")
  refuse 422: {{ query.season }} is no season.
set header X-Season: {{ params.season }}"""


def test_a_kind_is_written_tried_placed_copied_and_holds_on_real_calls(
    demo: Installation, page: Page, browser: Browser
) -> None:
    sign_in(page, demo.console, ADMIN.email, ADMIN.password)
    page.goto(f"{demo.console}/review")
    before = page.get_by_text("The draft against rollout").get_by_role("link").inner_text()
    # written, with two checked parameters; a mistake is said with its line while it is typed
    page.goto(f"{demo.console}{FARES}?operation=get+/tariffs")
    page.get_by_label("Add to Shape, get /tariffs").click()
    page.get_by_role("link", name="Write a kind").click()
    page.get_by_label("Title", exact=True).first.fill("Season")
    page.get_by_label("Name in files").fill("season")
    page.get_by_label("Help", exact=True).first.fill("Asks for a season by its name")
    for name, value in (("name-0", "season"), ("rule-0", "[a-z]{3,10}"), ("name-1", "strict"), ("default-1", "yes")):
        page.locator(f"[name={name}]").fill(value)
    page.locator("[name=required-0]").check()
    page.locator("[name=type-1]").select_option("yes or no")
    page.get_by_label("On the request").fill(STEPS.replace("params.strict", "params.strikt"))
    page.get_by_label("On the answer").fill("when answer.status == 200\n  set header X-Checked = string(params.strict)")
    page.get_by_label("On an error").click()
    expect(page.get_by_text("line 1, column 12: ‘params.strikt’ is not known here")).to_be_visible()
    # tried on an example before it is saved
    page.get_by_label("On the request").fill(STEPS)
    page.get_by_label("Operation", exact=True).fill("get /tariffs")
    page.get_by_label("Path and query").fill("/tariffs?season=W2")
    page.get_by_label("Parameters", exact=True).fill("season: winter")
    page.get_by_role("button", name="Run the example").click()
    expect(page.locator("#trial")).to_contain_text("W2 is no season.")
    expect(page.locator("#trial")).to_contain_text("the backend is not asked")
    page.get_by_label("Path and query").fill("/tariffs?season=winter")
    page.get_by_role("button", name="Run the example").click()
    expect(page.locator("#trial")).to_contain_text("x-season: winter")
    page.get_by_role("button", name="Save to the draft").click()
    expect(page.get_by_text("Saved to the draft.")).to_be_visible()
    # placed like any other: a wrong value is refused beside its field
    page.goto(f"{demo.console}{FARES}?operation=get+/tariffs")
    page.get_by_label("Add to Shape, get /tariffs").click()
    page.get_by_role("link", name="Season", exact=True).click()
    page.locator("#policy").get_by_label("Season").fill("WINTER")
    page.get_by_role("button", name="Place it").click()
    expect(page.locator("#e-season")).to_contain_text("'WINTER' does not match [a-z]{3,10}")
    page.locator("#policy").get_by_label("Season").fill("winter")
    page.get_by_role("button", name="Place it").click()
    expect(page.get_by_text("Not rolled out yet.")).to_be_visible()
    # put in order with another, copied to all, and the answer brought to XML
    page.get_by_label("Add to Shape, get /tariffs").click()
    place(page, "Request fields", Changes="set header X-After: {{ query.season }}")
    page.locator('[data-level=operation] a[data-policy="request-fields"]').press("Alt+ArrowUp")
    expect(page.get_by_text("in another order on Fares 1, get /tariffs")).to_be_visible()
    page.locator('[data-level=operation] a[data-policy="season"]').click()
    page.get_by_role("link", name="Copy or move").click()
    page.get_by_label("every operation").check()
    page.get_by_role("button", name="Copy it there").click()
    expect(page.get_by_text("Copied Season from Fares 1, get /tariffs to 2 placements")).to_be_visible()
    page.get_by_label("Add to Return, get /tariffs").click()
    place(page, "Answer body", What_is_done="JSON to XML")
    page.goto(f"{demo.console}/review")
    expect(page.get_by_role("main")).to_contain_text("kind Season is new")
    roll_out(demo, page)
    # on real calls, and tried in the portal
    status, _, told = ask(demo, "/fares/v1/tariffs?season=W2", "kiosk")
    problem = json.loads(told)
    assert (status, problem["reason"], problem["detail"]) == (422, "written-rule", "W2 is no season.")
    status, fields, body = ask(demo, "/fares/v1/tariffs?season=winter", "kiosk")
    assert (status, fields["x-checked"], fields["content-type"]) == (
        200,
        "true",
        "application/xml",
    ) and b"<item>" in body
    reader = browser.new_page()
    sign_in(reader, demo.portal, *LEAD)
    reader.goto(f"{demo.portal}/apis/fares/1/operation?call=get+/tariffs")
    reader.get_by_label("Environment").select_option("production")
    reader.get_by_role("button", name="Send").click()
    expect(reader.locator("#answer")).to_contain_text("<item>")
    expect(reader.locator("#answer")).to_contain_text("x-checked")
    reader.close()
    # the story of a refused call names the rule
    page.goto(f"{demo.console}/traffic/calls/{problem['call_id']}")
    expect(page.get_by_text("W2 is no season.").first).to_be_visible()
    page.goto(f"{demo.console}/rollouts/{before}")
    page.get_by_role("button", name="Roll back to this").click()
    expect(page.get_by_text("Every node that responds is running it.")).to_be_visible()
    page.goto(f"{demo.console}/review")
    page.on("dialog", lambda dialog: dialog.accept())
    page.get_by_role("button", name="Discard all").click()
    expect(page.get_by_text("Discarded: kind season, api fares.")).to_be_visible()
