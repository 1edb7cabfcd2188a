"""Protecting, as a person does it: tokens, browsers, the bench and its trace, secrets, credentials; on the running demo."""

import json
import re
import subprocess
import sys
from typing import Any

import pytest
from playwright.sync_api import Browser, Page, expect

from helpers import until
from journeys.conftest import Installation, sign_in
from journeys.test_first_path import Answer, curl
from tamarack.core.http.browser import judge
from tamarack.core.policies.guard.browser_access import BrowserAccess
from tamarack.demo.seed import shipped_configuration
from tamarack.demo.world import STAFF

pytestmark = pytest.mark.journey

ADMIN = STAFF[0]
HOLDS = "/bench/?operation=post+/berths/{id}/holds"
CLAIMS = '{"groups": ["harbour-staff"], "scope": "berths:hold", "sub": "duty.master"}'


def token(page: Page, demo: Installation, client: str = "berth-board") -> str:
    """A token from the harbour office's page."""
    page.goto(f"http://127.0.0.1:{demo.base + 24}")
    page.get_by_label("Client").select_option(client)
    page.get_by_role("button", name="Get a token").click()
    return page.locator("#token").input_value()


def hold(demo: Installation, shown: str) -> Answer:
    body = '{"vessel": "guillemot", "hours": 2}'
    address = f"{demo.production}/berths/v1/berths/corran-1/holds"
    return curl("-H", f"authorization: Bearer {shown}", "-H", "content-type: application/json", "-d", body, address)


def reason(answer: Answer) -> str:
    return str(json.loads(answer.body).get("reason", ""))


def test_the_harbour_offices_tokens_open_what_their_groups_may(demo: Installation, page: Page) -> None:
    staff = token(page, demo)
    assert curl("-H", f"authorization: Bearer {staff}", f"{demo.production}/berths/v1/berths").status == 200
    assert hold(demo, staff).status == 201
    display = curl("-H", f"authorization: Bearer {token(page, demo, 'quay-display')}",
                   f"{demo.production}/berths/v1/berths")  # fmt: skip
    assert (display.status, reason(display)) == (403, "unknown-caller")
    page.locator("select[name=lives]").select_option("expired")
    page.get_by_role("button", name="Get a token").click()
    assert reason(hold(demo, page.locator("#token").input_value())) == "expired-credential"
    until(lambda: _set_is_older(page, demo, 6), "the key set to be some seconds old", 20)
    page.goto(f"http://127.0.0.1:{demo.base + 24}")
    page.get_by_role("button", name="Sign with a new key").click()
    fresh = token(page, demo)
    until(lambda: hold(demo, fresh).status == 201, "its first token to be let in", 60)


def _set_is_older(page: Page, demo: Installation, seconds: int) -> bool:
    sign_in(page, demo.console, ADMIN.email, ADMIN.password)
    page.goto(f"{demo.console}/settings/keys/")
    expect(page.get_by_text("fresh")).to_be_visible()
    said = page.locator("table time").last.inner_text()
    found = re.match(r"(\d+) (s|min)", said)
    return bool(found and (found[2] == "min" or int(found[1]) >= seconds))


FETCH = """async ([address, options]) => {
  try { return (await fetch(address, options)).status; } catch (error) { return String(error); }
}"""


def test_a_real_browser_does_what_the_checker_says(demo: Installation, browser: Browser) -> None:
    """Simple and preflighted calls, from the page that is let in and from another origin."""
    api = shipped_configuration(demo.base).configuration.api("sailings")
    version = api.version("2") if api is not None else None
    assert version is not None
    policy = next(one for one in version.policies if isinstance(one, BrowserAccess))
    key = (demo.home / "demo" / "visitor-screen.production.key").read_text()
    context = browser.new_context()
    page = context.new_page()
    screen, office = f"http://127.0.0.1:{demo.base + 25}", f"http://127.0.0.1:{demo.base + 24}"
    page.goto(screen)
    expect(page.locator("#said")).to_have_text(re.compile("^Call [0-9a-f]{23}$"))
    assert page.locator("#rows tr").count() > 10
    address = f"{demo.production}/sailings/v2/sailings"
    calls: list[tuple[str, dict[str, str]]] = [
        ("GET", {}), ("GET", {"x-skerry-key": key}), ("GET", {"x-other": "1"}), ("GET", {"accept": "text/plain"}),
        ("HEAD", {}), ("POST", {"content-type": "text/plain"}), ("POST", {"content-type": "application/json"}),
        ("PUT", {}), ("DELETE", {}),
    ]  # fmt: skip
    outcomes = []
    for origin in (screen, office):
        page.goto(origin)
        for method, headers in calls:
            for credentials in ("omit", "include"):
                options = {"method": method, "headers": headers, "credentials": credentials}
                seen: Any = page.evaluate(FETCH, [address, options])
                expected = judge(policy.rule, origin, method, list(headers.items()), credentials == "include")
                assert isinstance(seen, int) is expected.read, f"{origin} {options}: {seen}, {expected}"
                outcomes.append(expected.read)
    assert any(outcomes)
    assert not all(outcomes)
    context.close()


def test_the_bench_sends_a_call_as_an_application_and_draws_its_trace(demo: Installation, page: Page) -> None:
    sign_in(page, demo.console, ADMIN.email, ADMIN.password)
    page.goto(f"{demo.console}/apis/berths/1{HOLDS}")
    page.get_by_label("Made as").select_option(label="Berth Board, Harbour Control")
    page.get_by_label("What its token says").fill(CLAIMS)
    page.get_by_label("Body").press("Control+Enter")
    expect(page.get_by_text("201 Created")).to_be_visible()
    drawn = page.get_by_role("table", name="Trace")
    for words in ("Bench", "Groups", "Scopes", "Required claims", "berths"):
        expect(drawn.get_by_text(words, exact=True).first).to_be_visible()
    page.get_by_label("What its token says").fill('{"scope": "berths:hold"}')
    page.get_by_role("button", name="Send the call").click()
    expect(page.get_by_text("403 Forbidden")).to_be_visible()
    expect(page.locator(".slip.refused")).to_contain_text("Required claims")
    call_id = page.locator("#trace h2 code").inner_text()
    page.goto(f"{demo.console}/traffic/find")
    page.get_by_label("Call id").fill(call_id)
    page.get_by_role("button", name="Find", exact=True).click()
    expect(page.get_by_text("Required claims (claims, placed on berths/1/post")).to_be_visible()
    expect(page.get_by_text(f"sent from the bench by {ADMIN.email}").first).to_be_visible()


def test_a_call_taken_away_from_the_bench_runs_as_it_stands(demo: Installation, page: Page, tmp_path: Any) -> None:
    staff = token(page, demo)
    sign_in(page, demo.console, ADMIN.email, ADMIN.password)
    page.goto(f"{demo.console}/apis/berths/1{HOLDS}")
    page.get_by_label("Headers").fill(f"content-type: application/json\nauthorization: Bearer {staff}")
    page.get_by_label("Body").fill('{"vessel": "storm-petrel",\n "hours": 3, "note": "it\'s a \\"test\\" $HOME `x`"}')
    page.get_by_role("button", name="Send the call").click()
    expect(page.get_by_text("201 Created")).to_be_visible()
    texts = [page.locator(f"#as-{number}").text_content() or "" for number in (1, 2, 3)]
    as_curl = subprocess.run(["bash", "-c", texts[0]], capture_output=True, text=True, check=True).stdout
    assert "201 Created" in as_curl
    assert '"storm-petrel"' in as_curl
    as_python = subprocess.run([sys.executable, "-c", texts[1]], capture_output=True, text=True, check=True).stdout
    assert as_python.startswith("201\n")
    page.goto(
        f"{demo.production}/health"
    )  # any page of the gateway's own origin, so that no rule of browsers is in the way
    said: list[str] = []
    page.on("console", lambda message: said.append(message.text) if message.type == "log" else None)
    page.evaluate(f"async () => {{ {texts[2]} }}")
    assert said[0] == "201"


def test_saved_calls_show_what_a_rollout_changed(demo: Installation, page: Page) -> None:
    sign_in(page, demo.console, ADMIN.email, ADMIN.password)
    page.goto(demo.console)
    page.get_by_role("button", name="test", exact=True).click()
    page.goto(f"{demo.console}/apis/berths/1/bench/?operation=get+/berths")
    page.get_by_label("Made as").select_option(label="Island Planner, Tern Trips")
    page.get_by_text("Expect and save").click()
    page.get_by_label("Expectations").fill("status is 200\njson /0/port is aldernes")
    page.get_by_label("Save as").fill("Partners read the berths")
    page.get_by_role("button", name="Save the call").click()
    page.get_by_role("button", name="Run all in test").click()
    expect(page.get_by_text("1 call answered as expected in test.")).to_be_visible()
    page.goto(f"{demo.console}/apis/berths/1/policies/add?level=operation&operation=get+/berths&kind=groups")
    page.get_by_label("Let in").fill("harbour")
    page.get_by_role("button", name="Place it").click()
    page.get_by_role("link", name=re.compile("not rolled out")).click()
    page.get_by_role("button", name="Roll out to test").click()
    expect(page.get_by_text("Every node that responds is running it.")).to_be_visible()
    page.goto(f"{demo.console}/apis/berths/1/saved/")
    page.get_by_role("button", name="Run all in test").click()
    expect(page.get_by_text("1 of 1 call not answered as expected in test.")).to_be_visible()
    expect(page.get_by_text("the status is 403, not 200")).to_be_visible()
    expect(page.get_by_text("1 call ended differently")).to_be_visible()
    page.goto(f"{demo.console}/apis/berths/1/history")
    page.get_by_role("button", name="Undo").first.click()
    page.get_by_role("button", name="production", exact=True).click()


def test_a_rotated_secret_reaches_the_backend_without_a_rollout(demo: Installation, page: Page) -> None:
    right = (demo.home / "demo" / "harbour-register.secret").read_text()
    address = f"{demo.production}/berths/v1/berths"
    key = (demo.home / "demo" / "island-planner.production.key").read_text()
    sign_in(page, demo.console, ADMIN.email, ADMIN.password)
    for value, status in (("wrong-on-purpose", 403), (right, 200)):
        page.goto(f"{demo.console}/settings/secrets/?name=harbour-register")
        page.get_by_label("Value", exact=True).fill(value)
        page.get_by_role("button", name="Set the secret").click()
        expect(page.get_by_text("The secret harbour-register is set.")).to_be_visible()
        until(
            lambda wanted=status: curl("-H", f"x-skerry-key: {key}", address).status == wanted,
            f"the answer {status}",
            5,
        )
    for log in (demo.home / "logs").glob("*.log"):
        assert right not in log.read_text(errors="replace"), log


def test_a_signed_key_is_made_watched_and_revoked(demo: Installation, page: Page) -> None:
    sign_in(page, demo.portal, "e.mole@skerry.example", "berth-board-31")
    page.goto(f"{demo.portal}/applications/")
    page.get_by_role("link", name="Berth Board").first.click()
    page.get_by_role("link", name="Another kind, or with restrictions").click()
    page.get_by_label("Kind").select_option("signed-key")
    page.get_by_label("Label").fill("night shift")
    page.get_by_role("button", name="Make it").click()
    key = page.locator("#key").inner_text()
    address = f"{demo.production}/berths/v1/berths"

    def shown() -> Answer:
        return curl("-H", f"authorization: Bearer {key}", address)

    until(lambda: shown().status == 200, "the signed key to work", 5)
    sign_in(page, demo.console, ADMIN.email, ADMIN.password)
    page.goto(f"{demo.console}/subscribers/harbour-control")
    page.get_by_role("link", name="Berth Board").first.click()
    page.get_by_role("button", name="Trace its calls for 15 minutes").click()
    expect(page.get_by_text("All calls of Berth Board are traced now.")).to_be_visible()
    made: list[str] = []
    traced = until(lambda: _traced(page, demo, shown, made), "a trace of its calls", 20)
    page.goto(f"{demo.console}/traffic/calls/{traced}")
    expect(page.get_by_role("table", name="Trace").get_by_text("Signed key").first).to_be_visible()
    expect(page.get_by_text("eyJ")).to_have_count(0)
    sign_in(page, demo.portal, "e.mole@skerry.example", "berth-board-31")
    page.goto(f"{demo.portal}/applications/")
    page.get_by_role("link", name="Berth Board").first.click()
    page.get_by_role("row", name=re.compile("night shift")).get_by_role("link").click()
    page.get_by_role("button", name="Revoke").click()
    until(lambda: "revoked-credential" in shown().body, "the revocation at the node", 5)


def _traced(page: Page, demo: Installation, call: Any, made: list[str]) -> str:
    """Make a call; returns the id of one of those made whose trace is listed, empty before there is one."""
    made.append(call().fields["tamarack-call-id"])
    page.goto(f"{demo.console}/traffic/traces")
    listed = page.content()
    return next((id for id in made if f"/traffic/calls/{id}" in listed), "")
