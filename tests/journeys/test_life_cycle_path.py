"""The life of a version: copied onto mocks, changed, tried as a preview, published in the earlier one's place, which is
then retired."""

import json
import re
import subprocess
from datetime import UTC, datetime, timedelta

import psycopg
import pytest
from playwright.sync_api import Browser, Page, expect

from helpers import until
from journeys.conftest import Installation, sign_in
from journeys.test_answering_path import ask
from tamarack.demo.world import STAFF

pytestmark = pytest.mark.journey

ADMIN = STAFF[0]
LEAD = ("m.tern@tern-trips.example", "island-hopper-52")
TAB = "/apis/sailings/{}/{}"
OLD, NEW = "/sailings/v2/sailings", "/sailings/v3/sailings"


def roll_out(demo: Installation, page: Page, *said: str) -> None:
    """Roll the draft out to production, after the review has said what it does."""
    page.goto(f"{demo.console}/review")
    for words in said:
        expect(page.get_by_role("complementary")).to_contain_text(words)
    page.get_by_role("button", name="Roll out to production").click()
    expect(page.get_by_text("Every node that responds is running it.")).to_be_visible()


def describe(demo: Installation, page: Page, version: int) -> None:
    page.goto(demo.console + TAB.format(version, "description"))


def ask_bare(demo: Installation, path: str) -> tuple[int, str]:
    """A call without any credential."""
    command = ["curl", "--silent", "--show-error", "--write-out", "\n%{http_code}", f"{demo.production}{path}"]
    body, _, status = subprocess.run(command, capture_output=True, text=True, check=True).stdout.rpartition("\n")
    return int(status), body


def test_the_next_version_takes_the_place_of_one_whose_callers_are_told(
    demo: Installation, page: Page, browser: Browser
) -> None:
    sign_in(page, demo.console, ADMIN.email, ADMIN.password)
    page.goto(f"{demo.console}/review")
    before = page.get_by_text("The draft against rollout").get_by_role("link").inner_text()
    # the next version begins as a copy, answered by mocks until its backend is there
    describe(demo, page, 2)
    page.get_by_role("link", name="Make a new version").click()
    expect(page.get_by_label("Base path on the gateway")).to_have_value("/sailings/v3")
    page.get_by_label("Backend").select_option(label="none yet: mocks answer from the description")
    page.get_by_role("button", name="Make it in the draft").click()
    expect(page.get_by_text("Sailings 3 is a draft now, a copy of version 2")).to_be_visible()
    # one parameter goes, another comes; what that breaks is said, and for whom
    page.get_by_role("link", name="Edit operations").click()
    page.get_by_label("Take to out").check()
    page.get_by_placeholder("a new one").first.fill("tide")
    page.get_by_role("row").nth(4).get_by_label("Required").check()
    page.get_by_role("button", name="Save to the draft").click()
    expect(page.get_by_text("Saved to the draft, with the description.")).to_be_visible()
    page.goto(demo.console + TAB.format(3, "compare/?against=2"))
    breaks = page.get_by_role("region", name="Breaks callers")
    expect(breaks).to_contain_text("parameter to in query is gone")
    expect(breaks).to_contain_text("parameter tide in query")
    expect(breaks).to_contain_text("island-planner of tern-trips")
    # as a preview anyone may try it
    describe(demo, page, 3)
    page.get_by_label("State of version 3").select_option("preview")
    page.get_by_label("Who may try the preview").select_option("everyone")
    page.get_by_role("button", name="Save to the draft").click()
    roll_out(demo, page, "Starts to take calls", "anyone may call 60 times a minute from one address")
    assert ask_bare(demo, f"{NEW}?tide=low")[0] == 200
    assert ask_bare(demo, OLD)[0] == 401
    reader = browser.new_page()
    reader.goto(demo.portal)
    reader.get_by_role("region", name="Previews").get_by_role("link", name="Sailings 3").click()
    expect(reader.get_by_text("You need no subscription and no credential")).to_be_visible()
    sign_in(reader, demo.portal, *LEAD)
    reader.goto(f"{demo.portal}/apis/sailings/3/operation?call=get+/sailings")
    reader.get_by_label("Who calls").select_option("nothing")
    reader.get_by_label("Environment").select_option("production")
    reader.get_by_role("button", name="Send").click()
    expect(reader.locator("#answer")).to_contain_text("200 OK")
    reader.get_by_label("not good").check()
    reader.get_by_label("In words").fill("We need the port of arrival.")
    reader.get_by_role("button", name="Tell the team").click()
    expect(reader.get_by_text("You get mail when it is published.")).to_be_visible()
    # its owner sees that beside the operation, and answers
    page.goto(demo.console + TAB.format(3, "?operation=get+/sailings"))
    expect(page.get_by_text("‘We need the port of arrival.’")).to_be_visible()
    page.get_by_role("link", name="Read and answer").click()
    page.locator("summary", has_text="Answer").click()
    page.get_by_label("Answer", exact=True).fill("It comes back as a filter.")
    page.get_by_role("button", name="Answer Mette Tern").click()
    expect(page.get_by_text("It comes back as a filter.")).to_be_visible()
    reader.reload()
    expect(reader.get_by_text("It comes back as a filter.")).to_be_visible()
    # published, it deprecates the earlier one in the same step
    describe(demo, page, 3)
    expect(page.get_by_label("In the same step, deprecate")).to_be_hidden()
    page.get_by_label("State of version 3").select_option("published")
    page.get_by_label("In the same step, deprecate").select_option("2")
    page.get_by_role("button", name="Save to the draft").click()
    describe(demo, page, 2)
    page.get_by_label("Answers until").fill("2001-01-01")
    page.get_by_label("Answers until").blur()
    expect(page.get_by_text("2001-01-01 lies before")).to_be_visible()
    page.get_by_label("Answers until").fill("2098-06-30")
    page.get_by_role("button", name="Save to the draft").click()
    roll_out(demo, page, "Sailings 2 published → deprecated", "Sailings 3 preview → published", "answered as before")
    until(lambda: "Sailings 3 is published" in _mail(demo, LEAD[0]), "the mail to who waited for it")
    # who is subscribed goes on calling, and reads when it ends and where to go
    status, fields, _ = ask(demo, OLD, "kiosk")
    assert (status, fields["sunset"]) == (200, "Mon, 30 Jun 2098 00:00:00 GMT")
    assert re.fullmatch(r"@\d+", fields["deprecation"])
    assert fields["link"].startswith('</sailings/v3>; rel="successor-version"')
    assert ask(demo, f"{NEW}?tide=low", "kiosk")[0] == 200
    assert ask_bare(demo, f"{NEW}?tide=low")[0] == 401  # the trial is over
    reader.goto(f"{demo.portal}/apis/sailings/2/")
    expect(reader.get_by_text("answers until 30 June 2098")).to_be_visible()
    reader.get_by_role("main").get_by_role("link", name="Version 3", exact=True).click()
    expect(reader).to_have_url(re.compile("/apis/sailings/3/"))
    reader.close()
    # nobody new comes to it: neither to its pages nor by a new subscription
    stranger = browser.new_page()
    stranger.goto(f"{demo.portal}/apis/sailings/2/")
    expect(stranger.get_by_role("heading", name="Sailings")).to_have_count(0)
    sign_in(stranger, demo.portal, *LEAD)
    stranger.goto(f"{demo.portal}/apis/sailings/3/subscribe")
    stranger.get_by_label("a new one").check()
    stranger.get_by_label("Name of the new application").fill("Late Comer")
    stranger.get_by_role("button", name="Subscribe").click()
    key = stranger.locator("#key").inner_text()
    stranger.close()
    until(lambda: _as(demo, key, f"{NEW}?tide=low", 200)[0], "the first call with the new key")
    status, body = _as(demo, key, OLD, 403)
    assert (status, json.loads(body)["detail"]) == (
        403, "Version 2 of Sailings is deprecated, and subscriptions made since then do not cover it."
        " Version 3 at /sailings/v3 takes its place.",
    )  # fmt: skip
    # who still calls is written to; its retirement is planned, called off, and done by hand
    page.goto(demo.console + TAB.format(2, "versions/"))
    expect(page.get_by_role("row", name=re.compile("Island Planner"))).to_be_visible()
    page.get_by_role("button", name="Write to them").click()
    expect(page.get_by_text("Island Planner:")).to_be_visible()
    page.get_by_role("button", name=re.compile("Send to")).click()
    expect(page.get_by_text("is on its way")).to_be_visible()
    until(lambda: "Sailings 2 answers until 30 June 2098" in _mail(demo, LEAD[0]), "the letter")
    page.get_by_label("Version 2 becomes").select_option("retired")
    page.get_by_label("On, in UTC").fill("2098-06-30T09:00")
    page.get_by_role("button", name="Plan it").click()
    expect(page.get_by_text("is too far away; plan at most three years ahead.")).to_be_visible()
    soon = datetime.now(UTC) + timedelta(days=40)
    page.get_by_label("On, in UTC").fill(f"{soon:%Y-%m-%dT09:00}")
    page.get_by_role("button", name="Plan it").click()
    expect(page.get_by_role("listitem").filter(has_text=f"{soon:%d %B %Y, 09:00} UTC")).to_be_visible()
    page.get_by_role("listitem").filter(has_text="Version 2 becomes").get_by_role("button", name="Call off").click()
    expect(page.get_by_text("Version 2 to retired: called off")).to_be_visible()
    # retired, it answers with what takes its place; it cannot become a draft while it runs
    describe(demo, page, 2)
    page.get_by_label("State of version 2").select_option("draft")
    expect(page.get_by_text("retire it, and they are told what takes its place")).to_be_visible()
    page.get_by_label("State of version 2").select_option("retired")
    expect(page.get_by_text("retire it, and they are told what takes its place")).to_be_hidden()
    page.get_by_role("button", name="Save to the draft").click()
    roll_out(demo, page, "Callers are told that version 3 takes its place.", "calls in 7 days, the last")
    status, fields, answer = ask(demo, OLD, "kiosk")
    assert (status, fields["link"]) == (410, '</sailings/v3>; rel="successor-version"')
    assert json.loads(answer)["detail"] == (
        "Version 2 of Sailings is no longer offered; version 3 at /sailings/v3 takes its place."
    )
    # and all of it is taken back
    page.goto(f"{demo.console}/rollouts/{before}")
    page.get_by_role("button", name="Roll back to this").click()
    expect(page.get_by_text("Every node that responds is running it.")).to_be_visible()
    assert ask(demo, OLD, "kiosk")[0] == 200
    page.goto(f"{demo.console}/review")
    page.get_by_role("listitem").filter(has_text="Sailings").get_by_role("button", name="Discard").first.click()
    expect(page.get_by_text("The draft of api sailings says what production runs.")).to_be_visible()


def _mail(demo: Installation, to: str) -> list[str]:
    """The subjects of the mail to somebody."""
    with psycopg.connect(demo.database) as connection:
        return [row[0] for row in connection.execute('SELECT subject FROM mail WHERE "to" = %s', (to,))]


def _as(demo: Installation, key: str, path: str, wanted: int) -> tuple[int, str]:
    """A call with a key: its status and body; nothing where another status came."""
    command = ["curl", "--silent", "--header", f"x-skerry-key: {key}", "--write-out", "\n%{http_code}",
               f"{demo.production}{path}"]  # fmt: skip
    body, _, status = subprocess.run(command, capture_output=True, text=True, check=True).stdout.rpartition("\n")
    return (int(status), body) if int(status) == wanted else (0, "")
