"""Every main page, looked at once: for readers of screens, in both themes, and as narrow as a phone."""

from collections.abc import Iterator
from urllib.parse import urlsplit

import pytest
from axe_playwright_python.sync_playwright import Axe
from playwright.sync_api import Browser, Page, expect

from journeys.conftest import Installation, sign_in
from tamarack.demo.sign_in import PASSWORD, USER
from tamarack.demo.world import STAFF

pytestmark = pytest.mark.journey

CONSOLE_PAGES = ("/", "/apis/", "/apis/sailings/2/?operation=get+/sailings", "/apis/new/", "/backends/timetable", "/plans/",
                 "/subscribers/", "/traffic/", "/traffic/calls", "/review", "/nodes", "/nodes/new", "/nodes/of/production-1", "/settings/", "/settings/audit",
                 "/apis/berths/1/bench/?operation=get+/berths", "/apis/berths/1/saved/", "/settings/secrets/",
                 "/apis/sailings/2/browser/?operation=get+/sailings&origin=https://www.lantern-bay.example&headers=x-a:+1",
                 "/apis/berths/1/explain/?operation=get+/berths&application=nobody", "/settings/keys/",
                 "/traffic/traces", "/traffic/find?status=200", "/subscribers/harbour-control",
                 "/apis/sailings/2/policies/add?level=api&operation=&kind=jwt", "/apis/sailings/2/documentation/",
                 "/subscribers/people", "/subscribers/applications", "/subscribers/subscriptions",
                 "/subscribers/requests/", "/subscribers/notices/", "/subscribers/tern-trips/sees",
                 "/settings/portal/",
                 "/traffic/explore/?split=api&measure=p95&picture=line&where=api+is+sailings",
                 "/traffic/explore/?measure=p95&picture=heat+map", "/traffic/explore/?split=outcome&picture=bar&against=day",
                 "/traffic/boards/", "/traffic/boards/operations/", "/traffic/boards/api-owner/", "/traffic/alerts/",
                 "/traffic/alerts/new", "/traffic/statements/", "/traffic/hand-over/files", "/settings/export/",
                 "/settings/directories/", "/settings/directories/passengers/", "/settings/directories/passengers/log",
                 "/settings/directories/passengers/clients/", "/settings/directories/passengers/clients/new")  # fmt: skip
PORTAL_PAGES = ("/", "/?search=departures", "/apis/sailings/2/", "/apis/sailings/2/operation?call=get+/sailings",
                "/apis/fares/1/operation?call=post+/quotes", "/apis/sailings/2/pages/first-steps",
                "/apis/sailings/2/changes", "/applications/", "/apis/fares/1/subscribe", "/reasons/", "/notices/",
                "/team/", "APPLICATION", "APPLICATION/usage/", "APPLICATION/description/",
                "CLIENT", "CLIENT/edit", "CLIENT/walk-through/")  # fmt: skip
USER_PAGES = ("/", "/profile", "/password", "/codes", "/device", "/sign-in", "/forgot", "/sign-up", "/end-session")


def main_pages(demo: Installation, page: Page) -> Iterator[str]:
    """The addresses of the main pages, each when somebody is signed in who may open it."""
    for address, email, password, paths in (
        (demo.console, STAFF[0].email, STAFF[0].password, CONSOLE_PAGES),
        (demo.portal, "m.tern@tern-trips.example", "island-hopper-52", PORTAL_PAGES),
        (f"{demo.sign_in}/passengers", USER, PASSWORD, USER_PAGES),
    ):
        sign_in(page, address, email, password)
        if "APPLICATION" in paths:
            page.goto(f"{address}/applications/")
            own_page = page.get_by_role("link", name="Island Planner").get_attribute("href") or ""
            page.get_by_role("link", name="Tern Mobile").click()
            row = page.get_by_role("row").filter(has_text="production")
            client = row.get_by_role("link", name="Tern Mobile").get_attribute("href") or ""
            paths = tuple(path.replace("APPLICATION", own_page).replace("CLIENT", client) for path in paths)
        for path in paths:
            yield address + path


SERIOUS = """found => found.violations.filter(one => ["serious", "critical"].includes(one.impact))
  .map(one => [one.id, ...one.nodes.slice(0, 3).map(node => node.target.join(" "))])"""
LOOK = f"""async ([seen, all]) => {{
  const deciding = ["class", "style", "type", "role", "open", "disabled", "aria-current", "aria-selected", "aria-pressed"];
  const look = one => !one ? "" : look(one.parentElement) + ">" + one.localName
    + deciding.map(name => one.getAttribute(name) ?? "-").join("|");
  const shown = document.createTreeWalker(document.body, NodeFilter.SHOW_TEXT, text => text.data.trim() ? 1 : 2);
  const holding = [...document.querySelectorAll("input, select, textarea")];
  while (shown.nextNode()) holding.push(shown.currentNode.parentElement);
  const fresh = new Map(holding.filter(one => one.getClientRects().length).map(one => [look(one), one]));
  seen.forEach(one => fresh.delete(one));
  if (!all && !fresh.size) return [[], []];
  document.querySelectorAll("[data-weighed]").forEach(one => one.removeAttribute("data-weighed"));
  fresh.forEach(one => one.setAttribute("data-weighed", ""));
  axe.configure({{rules: [{{id: "color-contrast", selector: "[data-weighed]"}}]}});
  const rules = all ? {{}} : {{runOnly: ["color-contrast"]}};
  const found = await axe.run(document, {{resultTypes: ["violations"], preload: false, ...rules}});
  return [[...fresh.keys()], ({SERIOUS})(found)];
}}"""
"""Looks at a page by all rules, or by that of contrast alone. Contrast is weighed of one of each look of text that was not
seen on a page before, of all that hold text and show it: what decides its colours is the same for it and for what holds
it. Weighing takes long, and a table's rows look alike."""


@pytest.fixture(scope="module")
def walked(demo: Installation, browser: Browser) -> tuple[list[str], list[str]]:
    """Every main page looked at once: what is wrong with each for readers of screens, and which are too wide."""
    page = browser.new_page(viewport={"width": 1280, "height": 800})
    page.add_init_script(Axe().axe_script)
    faults, wide = [], []
    looks: dict[str, list[str]] = {}
    for address in main_pages(demo, page):
        page.emulate_media(color_scheme="light")
        page.set_viewport_size({"width": 1280, "height": 800})
        page.goto(address)
        seen = looks.setdefault(urlsplit(address).netloc, [])  # each application has colours of its own
        new, found = page.evaluate(LOOK, [seen, True])
        page.emulate_media(color_scheme="dark")
        found += page.evaluate(LOOK, [seen, False])[1]
        seen += new
        faults += [f"{address}: {fault}" for fault in found]
        for width in (768, 390):
            page.set_viewport_size({"width": width, "height": 900})
            needed = page.evaluate("document.documentElement.scrollWidth")
            if needed > width:
                wide.append(f"{address}: {needed} pixels of {width}")
    page.close()
    return faults, wide


def test_no_main_page_has_a_serious_fault_for_readers_of_screens(walked: tuple[list[str], list[str]]) -> None:
    faults, _ = walked
    assert not faults, "\n".join(faults)


def test_no_main_page_is_wider_than_a_phone_or_a_tablet(
    demo: Installation, page: Page, walked: tuple[list[str], list[str]]
) -> None:
    _, wide = walked
    assert not wide, "\n".join(wide)
    page.set_viewport_size({"width": 390, "height": 900})
    sign_in(page, demo.portal, "m.tern@tern-trips.example", "island-hopper-52")
    page.goto(f"{demo.portal}/reasons/")
    menu = page.get_by_role("button", name="Menu")  # on a phone it folds
    assert not page.get_by_role("link", name="Catalogue").is_visible()
    menu.click()
    page.get_by_role("link", name="Catalogue").click()
    expect(page).to_have_url(f"{demo.portal}/")
