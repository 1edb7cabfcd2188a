"""The portal, as people use it: a stranger becomes a team in production, a lead shares, staff decline, a call is tried."""

import json
import re
import shlex
import subprocess
from urllib.request import urlopen

import pytest
from playwright.sync_api import Browser, Page, expect

from helpers import until
from journeys.conftest import Installation, sign_in
from journeys.test_first_path import Answer, curl
from tamarack.demo.world import STAFF

pytestmark = pytest.mark.journey

ADMIN = STAFF[0]
LEAD = ("m.tern@tern-trips.example", "island-hopper-52")
PUFFIN = ("p.burrow@puffin.example", "burrow-by-the-sea-9")


def link_in_mail(demo: Installation, to: str, subject: str) -> str:
    """The link in the newest mail to someone with such a subject, read in the demo's mail box."""

    def found() -> str:
        with urlopen(f"http://127.0.0.1:{demo.base + 26}") as answer:
            mails = answer.read().decode().split("<article>")[1:]
        mine = [mail for mail in mails if f"to {to}" in mail and subject in mail]
        links = re.findall(r"http://127\.0\.0\.1:\S+", mine[0]) if mine else []
        return links[0] if links else ""

    return str(until(found, f"a mail to {to} about {subject}"))


def run_line(line: str) -> Answer:
    """What a shown curl line prints, run as a person would."""
    command = shlex.split(line.replace("\\\n", " "))
    return Answer(subprocess.run(command, capture_output=True, text=True, check=True, timeout=20).stdout)


def sign_out(page: Page, address: str) -> None:
    page.goto(address)
    page.get_by_role("button", name="Sign out").click()


def test_a_stranger_becomes_a_team_in_production(demo: Installation, page: Page) -> None:
    # A stranger looks around, signs up, and confirms the address by mail
    page.goto(demo.portal)
    expect(page.get_by_role("heading", name="Build on the ferries")).to_be_visible()
    expect(page.get_by_role("link", name="Berths")).to_have_count(0)
    page.get_by_role("link", name="Sign up").click()
    page.get_by_label("Your name").fill("Petra Burrow")
    page.get_by_label("E-mail address").fill(PUFFIN[0])
    page.get_by_label("Organization").fill("Puffin Works\u202e")
    page.get_by_label("Message to whoever decides").fill("A student's app about tides")
    page.get_by_role("button", name="Sign up").click()
    expect(page.get_by_text("changes the direction of the text after it")).to_be_visible()
    expect(page.get_by_label("Message to whoever decides")).to_have_value("A student's app about tides")
    page.get_by_label("Organization").fill("Puffin Works")
    page.get_by_role("button", name="Sign up").click()
    expect(page.get_by_text("Check your mail")).to_be_visible()
    page.goto(link_in_mail(demo, PUFFIN[0], "onfirm"))
    page.get_by_label("Password").fill("short")
    page.get_by_role("button", name="This is my address").click()
    expect(page.get_by_text("a password has at least 12")).to_be_visible()
    page.get_by_label("Password").fill(PUFFIN[1])
    page.get_by_role("button", name="This is my address").click()

    # Staff let them in, with an organization of their own
    sign_in(page, demo.console, ADMIN.email, ADMIN.password)
    page.goto(f"{demo.console}/subscribers/")
    page.get_by_role("link", name="Answer").click()
    expect(page.get_by_text("A student's app about tides")).to_be_visible()
    page.get_by_role("button", name="Let in").click()
    expect(page.get_by_text("Petra Burrow is in Puffin Works")).to_be_visible()

    # They find an operation by its words, read it, and ask for a plan that a person approves
    sign_in(page, demo.portal, *PUFFIN)
    page.goto(demo.portal)
    page.get_by_role("searchbox").fill("departures of a port")
    page.get_by_role("searchbox").press("Enter")
    page.get_by_role("link", name="Live departures of a port").click()
    expect(page.get_by_text("The caller shows a key in the header")).to_be_visible()
    page.get_by_text("Why a call may be refused").click()
    expect(page.get_by_role("link", name="unknown-credential")).to_be_visible()
    page.get_by_role("link", name="Sailings", exact=True).click()
    page.get_by_role("link", name="Subscribe", exact=True).click()
    page.get_by_role("radio", name=re.compile("^Liner")).check()
    page.get_by_label("Message to the platform team").fill("Forty screens in summer")
    page.get_by_role("button", name="Subscribe").click()
    expect(page.get_by_text("is missing; give it 1 to 80")).to_be_visible()
    expect(page.get_by_label("Message to the platform team")).to_have_value("Forty screens in summer")
    page.get_by_label("Name of the new application").fill("Tide Screen")
    page.get_by_role("button", name="Subscribe").click()
    expect(page.get_by_text("Your request is with the platform team.")).to_be_visible()

    # Staff approve, on a smaller plan, from the queue
    page.goto(f"{demo.console}/subscribers/requests/")
    request = page.locator(".request", has_text="Tide Screen")
    expect(request.get_by_text("Forty screens in summer")).to_be_visible()
    request.get_by_label("Plan for Tide Screen").select_option("cutter")
    request.get_by_role("button", name="Approve").click()
    expect(page.get_by_text("Tide Screen is on cutter of passage")).to_be_visible()

    # A key, the first call with the line that is shown, and its trace in the usage
    page.goto(f"{demo.portal}/applications/")
    page.get_by_role("link", name="Tide Screen").click()
    expect(page.get_by_text("on the plan Cutter instead of Liner")).to_be_visible()
    page.get_by_role("button", name="Make a key").click()
    expect(page.get_by_role("heading", name="Your new key")).to_be_visible()
    line = page.locator("#first-call").inner_text()
    until(lambda: run_line(line).status == 200, "the first call with the new key")
    key = page.locator("#key").inner_text()
    application = page.url
    curl("-H", f"x-skerry-key: {key}", f"{demo.production}/positions/v1/vessels")  # refused: not subscribed

    def counted() -> bool:
        page.goto(f"{application}/usage/")
        return page.get_by_text("not-subscribed").count() > 0 and page.locator("svg#calls").count() > 0

    until(counted, "the calls in the usage")
    expect(page.locator("svg#calls")).to_be_visible()
    expect(page.get_by_text("100 k / day")).to_be_visible()
    expect(page.get_by_text("Subscribe the application to a plan").first).to_be_visible()

    # Pausing the application stops its calls within a second
    page.goto(f"{demo.console}/subscribers/applications?search=tide")
    page.get_by_role("link", name="Tide Screen").click()
    page.get_by_role("button", name="Pause its calls").click()
    until(lambda: "application-paused" in run_line(line.replace("YOUR-KEY", key)).body, "the pause at the nodes", 5)
    page.get_by_role("button", name="Resume").click()


def test_a_lead_invites_a_colleague_and_shares_an_application(demo: Installation, page: Page, browser: Browser) -> None:
    colleague, password = "a.tide@tern-trips.example", "gull-over-the-pier-3"
    sign_in(page, demo.portal, *LEAD)
    page.goto(f"{demo.portal}/team/")
    page.get_by_label("E-mail address").fill(colleague)
    page.get_by_role("button", name="Invite").click()
    expect(page.get_by_text("An invitation is on its way")).to_be_visible()
    other = browser.new_context()
    theirs = other.new_page()
    theirs.goto(link_in_mail(demo, colleague, "invit"))
    theirs.get_by_label("Your name").fill("Arne Tide")
    theirs.get_by_label("Password").fill(password)
    theirs.get_by_role("button", name="Join").click()
    expect(theirs.get_by_text("You are signed in")).to_be_visible()
    expect(theirs.get_by_text("No application yet")).to_be_visible()

    page.goto(f"{demo.portal}/applications/")
    page.get_by_role("link", name="Tern Mobile").click()
    page.get_by_role("link", name="Description and sharing").click()
    page.get_by_label("Arne Tide").check()
    page.get_by_role("button", name="Share").click()
    expect(page.get_by_text("is shared with one person, and with every lead")).to_be_visible()
    theirs.reload()
    theirs.get_by_role("link", name="Tern Mobile").click()
    expect(theirs.get_by_role("heading", name="Tern Mobile")).to_be_visible()
    expect(theirs.get_by_role("heading", name="Credentials")).to_be_visible()
    other.close()


def test_staff_decline_a_request_and_the_lead_reads_why(demo: Installation, page: Page) -> None:
    sign_in(page, demo.console, ADMIN.email, ADMIN.password)
    page.goto(f"{demo.console}/subscribers/requests/")
    request = page.locator(".request", has_text="Manifest Sync")
    request.get_by_role("button", name="Decline").click()
    expect(page.get_by_text("Say why")).to_be_visible()
    request.get_by_label("Reason to decline Manifest Sync").fill("Cutter holds ten times what you call")
    request.get_by_role("button", name="Decline").click()
    expect(page.get_by_text("is told that the request was declined")).to_be_visible()
    sign_in(page, demo.portal, "r.crate@kelp-crate.example", "manifest-box-75")
    page.goto(f"{demo.portal}/notices/")
    expect(page.get_by_text("Cutter holds ten times what you call")).to_be_visible()
    with urlopen(f"http://127.0.0.1:{demo.base + 26}") as answer:
        assert "r.crate@kelp-crate.example" in answer.read().decode()


def test_a_call_is_tried_from_the_page_and_a_refusal_says_the_mend(demo: Installation, page: Page) -> None:
    sign_in(page, demo.portal, *LEAD)
    page.goto(f"{demo.portal}/apis/sailings/2/operation?call=get+/sailings")
    page.get_by_label("from", exact=True).select_option("aldernes")
    page.get_by_role("button", name="Send").click()
    answer = page.get_by_label("Answer")
    expect(answer.get_by_text("200 OK")).to_be_visible()
    expect(answer.get_by_text(re.compile(r"of 20 left"))).to_be_visible()
    expect(answer.get_by_text("/sailings/v2/sailings?from=aldernes")).to_be_visible()
    page.get_by_label("Who calls").select_option("with a key you type")
    page.get_by_label("API key to call with").fill("tmk_wrong")
    page.get_by_role("button", name="Send").click()
    expect(answer.get_by_text("401 Unauthorized")).to_be_visible()
    expect(answer.get_by_text("Check that the key is complete")).to_be_visible()
    page.get_by_label("Your key, to fill into the example").fill("tmk_mine")
    expect(page.locator("#example-curl")).to_contain_text("x-skerry-key: tmk_mine")
    document = json.loads(page.request.get(f"{demo.portal}/apis/sailings/2/openapi.json").text())
    assert document["servers"][0]["url"] == f"{demo.production}/sailings/v2"


def test_the_portal_takes_its_look_from_the_console(demo: Installation, page: Page) -> None:
    sign_in(page, demo.console, ADMIN.email, ADMIN.password)
    page.goto(f"{demo.console}/settings/portal/")
    page.get_by_label("Accent", exact=True).first.fill("#9fd0da")
    page.get_by_role("button", name="See it first").click()
    expect(page.get_by_text("the accent needs 4.5 to 1")).to_be_visible()
    page.get_by_label("Accent", exact=True).first.fill("#7a3b12")
    page.get_by_label("Front page's title").fill("Sail with us")
    page.get_by_role("button", name="Give the portal this look").click()
    expect(page.get_by_text("The portal has its new look.")).to_be_visible()
    page.goto(demo.portal)
    expect(page.get_by_role("heading", name="Sail with us")).to_be_visible()
    accent = page.evaluate("getComputedStyle(document.documentElement).getPropertyValue('--gold')")
    assert accent == "#7a3b12"
