"""Changing what passes: placed, sorted, copied, switched off, and seen on real calls and in the portal."""

import json
import subprocess

import pytest
from playwright.sync_api import Browser, Page, expect

from helpers import until
from journeys.conftest import Installation, sign_in
from journeys.test_answering_path import ask
from journeys.test_life_cycle_path import roll_out
from tamarack.demo.world import STAFF

pytestmark = pytest.mark.journey

ADMIN = STAFF[0]
LEAD = ("m.tern@tern-trips.example", "island-hopper-52")
FARES = "/apis/fares/1/"


def place(page: Page, kind: str, **fields: str) -> None:
    """Place a policy of a kind in the cell that was opened."""
    page.get_by_role("link", name=kind, exact=True).click()
    form = page.locator("#policy")
    for label, value in fields.items():
        control = form.get_by_label(label.replace("_", " "), exact=True)
        control.select_option(value) if control.evaluate("e => e.tagName") == "SELECT" else control.fill(value)
    page.get_by_role("button", name="Place it").click()
    expect(page.get_by_text("Not rolled out yet.")).to_be_visible()


def test_what_passes_is_changed_and_everybody_sees_it(demo: Installation, page: Page, browser: Browser) -> None:
    sign_in(page, demo.console, ADMIN.email, ADMIN.password)
    page.goto(f"{demo.console}/review")
    before = page.get_by_text("The draft against rollout").get_by_role("link").inner_text()
    # a change of fields on one operation; a wrong one is said beside its field
    page.goto(f"{demo.console}{FARES}?operation=get+/tariffs")
    page.get_by_label("Add to Return, get /tariffs").click()
    page.get_by_role("link", name="Answer fields", exact=True).click()
    page.locator("#policy").get_by_label("Changes").fill("set header Content-Length: 3")
    expect(page.get_by_text("has a meaning of its own in HTTP")).to_be_visible()
    page.locator("#policy").get_by_label("Changes").fill("set header X-Asked: {{ call.path }}")
    page.get_by_role("button", name="Place it").click()
    expect(page.get_by_text("Not rolled out yet.")).to_be_visible()
    # another beside it, and the two change places by keys
    page.get_by_label("Add to Return, get /tariffs").click()
    place(page, "Answer body", What_is_done="JSON to XML", Outermost_element="tariffs")
    cell = page.locator("[data-level=operation] a[data-policy]")
    assert cell.all_inner_texts()[0].startswith("Answer fields")
    page.locator('[data-level=operation] a[data-policy="answer-body"]').press("Alt+ArrowUp")
    expect(page.get_by_text("in another order on Fares 1, get /tariffs")).to_be_visible()
    assert cell.all_inner_texts()[0].startswith("Answer body")
    # copied to all, with what that replaces said first; and refusals in words of their own
    page.locator('[data-level=operation] a[data-policy="answer-body"]').click()
    page.get_by_role("link", name="Copy or move").click()
    expect(page.get_by_text("it stands here")).to_be_visible()
    page.get_by_label("every operation").check()
    page.get_by_role("button", name="Copy it there").click()
    expect(page.get_by_text("Copied Answer body from Fares 1, get /tariffs to 2 placements")).to_be_visible()
    page.goto(f"{demo.console}{FARES}")
    page.get_by_label("Add to On error, Fares 1").click()
    page.locator("#policy").get_by_label("Body").fill("{{ error.reason }} {{ call.id }}")
    page.locator("#policy").get_by_label("Content type").fill("text/plain")
    page.get_by_role("button", name="Place it").click()
    expect(page.get_by_text("Not rolled out yet.")).to_be_visible()
    roll_out(demo, page)
    # on real calls, and in the portal
    status, fields, body = ask(demo, "/fares/v1/tariffs", "kiosk")
    assert (status, fields["content-type"], fields["x-asked"]) == (200, "application/xml", "/fares/v1/tariffs")
    assert body.startswith(b"<?xml version='1.0' encoding='UTF-8'?>\n<tariffs><item>")
    command = ["curl", "--silent", f"{demo.production}/fares/v1/tariffs"]
    refused = subprocess.run(command, capture_output=True, text=True, check=True).stdout
    assert refused.startswith("no-credential ")
    reader = browser.new_page()
    sign_in(reader, demo.portal, *LEAD)
    reader.goto(f"{demo.portal}/apis/fares/1/operation?call=get+/tariffs")
    expect(reader.get_by_text("Answers are brought from JSON to XML.")).to_be_visible()
    reader.get_by_label("Environment").select_option("production")
    reader.get_by_role("button", name="Send").click()
    expect(reader.locator("#answer")).to_contain_text("<tariffs><item>")
    reader.close()
    # switched off, the answer is the backend's again
    page.goto(f"{demo.console}{FARES}?operation=get+/tariffs")
    page.locator('[data-level=operation] a[data-policy="answer-body"]').click()
    page.get_by_role("button", name="Switch off").click()
    expect(page.get_by_text("Switched Answer body off on Fares 1, get /tariffs")).to_be_visible()
    roll_out(demo, page)
    assert json.loads(until(lambda: ask(demo, "/fares/v1/tariffs", "kiosk")[2], "an answer"))
    # and all of it is taken back
    page.goto(f"{demo.console}/rollouts/{before}")
    page.get_by_role("button", name="Roll back to this").click()
    expect(page.get_by_text("Every node that responds is running it.")).to_be_visible()
    page.goto(f"{demo.console}/review")
    page.get_by_role("listitem").filter(has_text="Fares").get_by_role("button", name="Discard").first.click()
    expect(page.get_by_text("The draft of api fares says what production runs.")).to_be_visible()
