"""From a picture to the call that made it, on to a board and an alert, and out of the house."""

import json
import re
import urllib.request

import psycopg
import pytest
from playwright.sync_api import Page, expect

from helpers import until
from journeys.conftest import Installation, ask, sign_in
from tamarack.demo.places import COLLECTOR
from tamarack.demo.world import STAFF
from tamarack.settings import STAND_INS

pytestmark = pytest.mark.journey
ADMIN = STAFF[0]


def test_a_picture_leads_to_the_call_that_made_it(demo: Installation, page: Page) -> None:
    sign_in(page, demo.console, ADMIN.email, ADMIN.password)
    page.goto(f"{demo.console}/traffic/")
    page.get_by_role("link", name="Explore").click()
    page.get_by_label("split by").select_option(label="API")
    expect(page.get_by_role("link", name="sailings", exact=True)).to_be_visible()
    # a condition, with suggestions from the traffic
    field = page.get_by_label("Only calls where")
    field.fill("cache is ")
    expect(page.locator("#suggestions option[value='cache is hit']")).to_have_count(1)
    field.fill("cache is hit")
    field.press("Enter")
    expect(page.locator(".condition code")).to_have_text("cache is hit")
    # a row narrows, the back button undoes
    page.get_by_role("link", name="sailings", exact=True).click()
    expect(page.locator(".condition code")).to_have_text(["cache is hit", "api is sailings"])
    page.go_back()
    expect(page.locator(".condition code")).to_have_text(["cache is hit"])
    page.go_forward()
    # a stretch is dragged, by pointer; the picture follows
    page.get_by_label("drawn as").select_option("heat map")
    chart = page.locator("#exploration")
    box = chart.bounding_box()
    assert box is not None
    page.mouse.move(box["x"] + box["width"] * 0.3, box["y"] + 60)
    page.mouse.down()
    page.mouse.move(box["x"] + box["width"] * 0.6, box["y"] + 60, steps=4)
    page.mouse.up()
    expect(page).to_have_url(re.compile("span=2"))
    # arrow keys read the values
    chart.focus()
    chart.press("ArrowRight")
    expect(page.locator("#exploration-readout")).to_contain_text("calls, half within")
    # saved, and found again under its title
    page.get_by_text("Save it", exact=True).click()
    page.get_by_label("Title", exact=True).fill("From the cache, Sailings")
    page.get_by_label("every support").check()
    page.get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_text("The exploration is saved.")).to_be_visible()
    expect(page.get_by_role("link", name="From the cache, Sailings")).to_be_visible()
    # the calls behind it, and one of them
    page.get_by_role("link", name="The calls behind it").click()
    expect(page.locator(".condition code")).to_have_text(["cache is hit", "api is sailings"])
    page.locator("tbody tr a").first.click()
    expect(page.get_by_role("heading", name="What happened")).to_be_visible()
    expect(page.get_by_text("from the cache")).to_be_visible()
    expect(page.get_by_text("· Identify")).to_be_visible()


def test_a_board_is_made_of_it_and_looked_at_in_full(demo: Installation, page: Page) -> None:
    sign_in(page, demo.console, ADMIN.email, ADMIN.password)
    page.goto(f"{demo.console}/traffic/boards/")
    page.get_by_label("Title").fill("Quay side")
    page.get_by_role("button", name="Make it").click()
    page.get_by_label("Put on it").select_option(label="From the cache, Sailings")
    page.get_by_role("button", name="Put it on").click()
    expect(page.get_by_text("is on the board")).to_be_visible()
    # another is put on it from where it is, and goes before the first, by keys
    page.goto(f"{demo.console}/traffic/explore/?measure=failed&picture=line")
    page.get_by_text("Put it on a board", exact=True).click()
    page.get_by_label("Title of the tile").fill("Failures")
    page.get_by_label("Board", exact=True).select_option(label="Quay side")
    page.get_by_role("button", name="Put it on").click()
    expect(page.locator(".tile h2")).to_have_text(["From the cache, Sailings", "Failures"])
    page.goto(f"{demo.console}/traffic/boards/quay-side/edit")
    page.get_by_label("Title").nth(1).press("Alt+ArrowUp")
    expect(page.get_by_text("The tiles are in another order.")).to_be_visible()
    tiles = page.get_by_label("Title")
    expect(tiles.nth(0)).to_have_value("Failures")
    # and back, by dragging
    page.locator("tr[data-place]").nth(0).drag_to(
        page.locator("tr[data-place]").nth(1), target_position={"x": 20, "y": 30}
    )
    expect(page.get_by_text("The tiles are in another order.")).to_be_visible()
    expect(tiles.nth(0)).to_have_value("From the cache, Sailings")
    page.get_by_role("button", name="take off").nth(1).click()
    page.get_by_role("link", name="Quay side").click()
    expect(page.locator(".tile")).to_have_count(1)
    page.get_by_role("link", name="Full screen").click()
    expect(page.get_by_role("navigation", name="Sections")).to_be_hidden()
    page.get_by_role("link", name="Leave full screen").click()
    with page.expect_download() as taken:
        page.get_by_role("link", name="File").click()
    board = json.loads(taken.value.path().read_text())
    assert board["tiles"][0]["question"]["where"] == ["cache is hit", "api is sailings"]


def test_an_alert_is_tried_and_watched_and_new_calls_are_followed(demo: Installation, page: Page) -> None:
    sign_in(page, demo.console, ADMIN.email, ADMIN.password)
    page.goto(f"{demo.console}/traffic/alerts/")
    page.get_by_role("link", name="Watch something").click()
    page.get_by_label("Title").fill("Anything at all")
    page.get_by_label("Raise it when").select_option(label="calls")
    page.get_by_role("textbox", name="the limit").fill("0")
    page.get_by_label("for minutes").fill("1")
    page.get_by_role("button", name="Try it on the last hours").click()
    expect(page.get_by_text("it would have been raised")).to_be_visible()
    page.get_by_role("button", name="Watch it").click()
    expect(page.get_by_role("heading", name="Anything at all")).to_be_visible()
    page.goto(f"{demo.console}/traffic/calls")
    page.get_by_role("link", name="Follow").click()
    newest = page.locator("tbody tr a").first.get_attribute("href")
    key = (demo.home / "demo" / "kiosk.production.key").read_text()
    ask(demo.base + 2, key, "followed")
    expect(page.locator("tbody tr a").first).not_to_have_attribute("href", newest or "")


def collector(demo: Installation) -> dict[str, int]:
    address = f"http://127.0.0.1:{demo.base + STAND_INS + COLLECTOR}"
    with urllib.request.urlopen(f"{address}/state", timeout=10) as answer:
        found: dict[str, int] = json.load(answer)
    return found


def tell_collector(demo: Installation, failing: str) -> None:
    address = f"http://127.0.0.1:{demo.base + STAND_INS + COLLECTOR}/failing"
    urllib.request.urlopen(address, data=f"failing={failing}".encode(), timeout=10).close()


def batched(demo: Installation) -> tuple[int, int]:
    """The calls of all numbered batches, and those that were exported."""
    with psycopg.connect(demo.database) as connection:
        row = connection.execute(
            "SELECT (SELECT coalesce(sum(calls), 0)::bigint FROM call_batch WHERE first IS NOT NULL), (SELECT calls FROM export)"
        ).fetchone()
    assert row is not None
    return row[0], row[1]


def test_the_collector_may_be_away_and_gets_every_record_once(demo: Installation, page: Page) -> None:
    tell_collector(demo, "yes")
    failed = collector(demo)["failed"]
    key = (demo.home / "demo" / "kiosk.production.key").read_text()
    for _ in range(20):
        ask(demo.base + 2, key, "exported/1")
    until(lambda: collector(demo)["failed"] > failed, "a request that fails", 60)
    sign_in(page, demo.console, ADMIN.email, ADMIN.password)
    page.goto(f"{demo.console}/settings/export/")
    expect(page.get_by_text("answered 503")).to_be_visible()
    tell_collector(demo, "no")

    def agrees() -> bool:
        waiting, taken = batched(demo)
        return waiting == taken == collector(demo)["records"]

    until(agrees, "every record at the collector, once", 90)
    expect(page.get_by_text("taken as they come")).to_be_visible()


def test_each_node_tells_its_metrics(demo: Installation) -> None:
    key = (demo.home / "demo" / "kiosk.production.key").read_text()
    ask(demo.base + 2, key, "metered/1")

    def told() -> str:
        with urllib.request.urlopen(f"http://127.0.0.1:{demo.base + 32}/metrics", timeout=10) as answer:
            return str(answer.read().decode())

    until(lambda: 'api="sailings"' in told(), "metrics of Sailings")
    text = told()
    assert re.search(r'tamarack_calls_total\{api="sailings",environment="production",node="production-1"', text)
    assert "tamarack_call_duration_seconds_bucket" in text
