"""Metering, as people do it: a plan with a quota, its end, an extension, Redis lost, live counters, a limit tried."""

import os
import signal
import socket

import pytest
from playwright.sync_api import Page, expect

from helpers import until
from journeys.conftest import Installation, sign_in
from journeys.test_first_path import Answer, curl
from journeys.test_guarded_path import reason
from tamarack.demo.world import STAFF

pytestmark = pytest.mark.journey

ADMIN = STAFF[0]


def call(demo: Installation) -> Answer:
    """A call of the visitor screen, which nothing else of the demo makes."""
    key = (demo.home / "demo" / "visitor-screen.production.key").read_text()
    site = f"http://127.0.0.1:{demo.base + 25}"
    return curl("-H", f"x-skerry-key: {key}", "-H", f"origin: {site}", f"{demo.production}/sailings/v2/sailings")


def open_application(page: Page, demo: Installation) -> None:
    sign_in(page, demo.console, ADMIN.email, ADMIN.password)
    page.goto(f"{demo.console}/subscribers/lantern-bay")
    page.get_by_role("link", name="Visitor Screen").click()


def test_a_plan_with_a_quota_is_made_and_given_to_a_subscriber(demo: Installation, page: Page) -> None:
    sign_in(page, demo.console, ADMIN.email, ADMIN.password)
    page.goto(f"{demo.console}/plans/passage/plan")
    page.get_by_label("Name in addresses and files").fill("dinghy")
    page.get_by_label("Title").fill("Dinghy")
    page.get_by_label("Calls", exact=True).fill("40")
    page.get_by_label("A quota of calls").check()
    expect(page.get_by_label("Rates, as text")).to_have_value("40 per minute")
    page.get_by_label("Calls in each period").fill("5 calls")
    page.get_by_label("It has a price").check()
    page.get_by_label("Price a month").fill("1,50")
    expect(page.locator("#e-quota_calls")).to_contain_text("5 calls")
    page.get_by_label("Calls in each period").fill("5")
    page.get_by_label("Period", exact=True).select_option("week")
    page.get_by_role("button", name="Save to the draft").click()
    expect(page.get_by_text("Saved plan Dinghy of Passage")).to_be_visible()
    page.goto(f"{demo.console}/review?environment=production")
    expect(page.get_by_text("Dinghy").first).to_be_visible()
    page.get_by_role("button", name="Roll out to production").click()
    expect(page.get_by_text("runs now").first).to_be_visible()
    open_application(page, demo)
    row = page.get_by_role("row").filter(has_text="production").filter(has_text="skiff").first
    row.locator("summary").first.click()
    row.get_by_label("Plan").select_option("dinghy")
    row.get_by_role("button", name="Change").click()
    expect(page.get_by_text("is on dinghy now")).to_be_visible()


def test_the_quota_ends_people_are_told_and_an_extension_holds_within_a_second(demo: Installation, page: Page) -> None:
    until(lambda: "q=5" in dict(call(demo).fields).get("ratelimit-policy", "") or reason(call(demo)) == "over-quota",
          "the new plan's quota")  # fmt: skip
    refused = until(lambda: (answer := call(demo)).status == 429 and answer, "the end of the quota")
    assert reason(refused) == "over-quota"
    assert 1 <= int(dict(refused.fields)["retry-after"]) <= 7 * 86_400
    page.goto(f"http://127.0.0.1:{demo.base + 26}")

    def told() -> bool:
        page.reload()
        return page.get_by_text("Visitor Screen has used up its quota in production").count() > 0

    until(told, "the mail")
    sign_in(page, demo.portal, "l.bay@lantern-bay.example", "lamp-and-lens-19")
    page.goto(f"{demo.portal}/applications/")
    page.get_by_role("link", name="Visitor Screen").click()
    expect(page.get_by_text("has used up its quota in production").first).to_be_visible()
    expect(page.get_by_text("of 5 / week")).to_be_visible()
    open_application(page, demo)
    row = page.get_by_role("row").filter(has_text="production").filter(has_text="dinghy").first
    row.locator("summary").last.click()
    row.get_by_label("Calls on top for this period").fill("2")
    row.get_by_label("Reason").fill("a school visit")
    row.get_by_role("button", name="Extend").click()
    expect(page.get_by_text("2 calls are granted on top")).to_be_visible()
    until(lambda: call(demo).status == 200, "the extension to reach the node")
    statuses = [call(demo).status for _ in range(3)]
    assert statuses == [200, 429, 429]


def test_redis_may_be_killed_and_the_quota_is_still_used_up(demo: Installation) -> None:
    killed = demo.pids()["redis"]
    os.kill(killed, signal.SIGKILL)

    def answers() -> bool:
        with socket.socket() as probe:
            return demo.pids().get("redis") != killed and probe.connect_ex(("127.0.0.1", demo.base + 11)) == 0

    until(answers, "the return of Redis")
    log = demo.home / "logs" / "production-1.log"

    def together() -> bool:
        """The node counts with all nodes, whether a call met it without Redis or not."""
        said = log.read_text()
        return said.count("shared counters are away") == said.count("shared counters are back")

    for _ in range(3):  # a call may meet Redis while it still reads its file: it is counted by the node, and owed
        until(together, "the return of the shared counters")
        refused = call(demo)
        if refused.status == 429:
            break
    assert (refused.status, reason(refused)) == (429, "over-quota")


def test_live_counters_are_searched_and_one_is_cleared(demo: Installation, page: Page) -> None:
    key = (demo.home / "demo" / "island-planner.test.key").read_text()
    test = f"http://127.0.0.1:{demo.base + 4}/sailings/v2/sailings"
    assert curl("-H", f"x-skerry-key: {key}", test).status == 200
    sign_in(page, demo.console, ADMIN.email, ADMIN.password)
    page.goto(f"{demo.console}/limits/live?environment=test")
    page.get_by_label("Search by caller, address or key").fill("Island Planner")
    row = page.get_by_role("row").filter(has_text="Island Planner").filter(has_text="per day").first
    expect(row).to_be_visible()
    row.get_by_role("button", name="Clear").click()
    expect(page.get_by_text("is reset")).to_be_visible()
    page.goto(f"{demo.console}/settings/audit")
    expect(page.get_by_text("clear counter").first).to_be_visible()
    page.goto(f"{demo.console}/limits/?environment=production")
    expect(page.get_by_text("Dinghy of Passage").first).to_be_visible()


def test_a_limit_is_dragged_and_the_picture_follows(demo: Installation, page: Page) -> None:
    sign_in(page, demo.console, ADMIN.email, ADMIN.password)
    page.goto(f"{demo.console}/limits/try?environment=production")
    refused = page.locator("#outcome dd").nth(3)
    expect(refused).to_contain_text("36")
    page.get_by_label("Burst, at once, by dragging").fill("60")
    expect(refused).to_contain_text("0")
    expect(page.get_by_label("Burst, at once", exact=True)).to_have_value("60")
    assert "burst=60" in page.url
    page.get_by_label("Come").select_option("a caller's calls")
    page.get_by_label("Whose").select_option("kelp-and-crate/manifest-sync")
    expect(page.get_by_text("smallest burst at 5 per second")).to_be_visible()
    page.locator("#trial").press("ArrowRight")
    expect(page.locator("#trial-readout")).to_contain_text("left:")
