"""A developer walks through a client in the portal, and runs every command in a shell exactly as it is printed."""

import json
import re
import subprocess
from typing import Any

import pytest
from playwright.sync_api import Page, expect

from helpers import until
from journeys.conftest import Installation, sign_in
from journeys.test_shaping_path import LEAD
from tamarack.demo.sign_in import PASSWORD, USER

pytestmark = pytest.mark.journey


def run(page: Page, step: str) -> tuple[int, Any]:
    """The command of a step, run by a shell as it is printed: the status, and what came back."""
    command = page.locator(f"#command-{step}").inner_text()
    done = subprocess.run(["/bin/sh", "-c", command], capture_output=True, text=True, check=True)
    head, _, body = done.stdout.replace("\r\n", "\n").partition("\n\n")
    status = re.match(r"HTTP/1.1 ([0-9]{3})", head)
    assert status is not None, done.stdout
    return int(status[1]), json.loads(body) if body.strip() else None


def test_every_command_of_the_walk_through_works_as_it_is_printed(demo: Installation, page: Page) -> None:
    sign_in(page, demo.portal, *LEAD)
    page.goto(f"{demo.portal}/applications/")
    page.get_by_role("link", name="Tern Mobile").first.click()
    page.get_by_role("row").filter(has_text="production").get_by_role("link", name="Tern Mobile").first.click()
    page.get_by_role("link", name="Walk through it").click()
    page.get_by_label("The call").select_option("fares/1 get /tariffs")
    page.get_by_label("Scopes").fill("openid profile fares:quote offline_access")
    page.get_by_role("button", name="Begin anew with this").click()
    status, metadata = run(page, "discovery")
    assert status == 200 and metadata["issuer"] == f"{demo.sign_in}/passengers"
    # this page stands in the application's place: the user comes back to it with the code
    page.get_by_role("button", name="Register this page's address").click()
    page.get_by_role("link", name="Open it").click()
    page.get_by_label("Mail address").fill(USER)
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_role("button", name="Sign in").click()
    page.get_by_role("button", name="Allow", exact=True).click()
    expect(page.get_by_text("State and issuer are those that were sent")).to_be_visible()
    # the command in a terminal; what it printed is pasted, and filled into the rest
    status, made = run(page, "exchange")
    assert status == 200 and made["expires_in"] == 24 * 3600, "as the plan says"
    page.get_by_text("I ran it in a terminal").click()
    page.get_by_label("What it printed").fill(json.dumps(made))
    page.get_by_role("button", name="Fill it in").click()
    expect(page.get_by_text("The access token, read")).to_be_visible()
    claims = json.loads(page.locator(".walk-token").nth(1).inner_text())
    assert claims["scope"] == "openid profile fares:quote offline_access"
    assert run(page, "call")[0] == 200
    assert run(page, "userinfo") == (200, {"name": "Nell Holm", "sub": claims["sub"]})
    # or from the page
    page.locator("#refresh").get_by_role("button", name="Run it").click()
    expect(page.locator("#refresh .walk-came")).to_contain_text("200 OK")
    page.locator("#call").get_by_role("button", name="Run it").click()
    expect(page.locator("#call .walk-came")).to_contain_text("200 OK")
    # the end of the token is everywhere within a second, and what came of it is over
    assert run(page, "revoke")[0] == 200
    until(lambda: run(page, "again")[0] == 401, "the end of the token")
    assert run(page, "refresh")[1]["error"] == "invalid_grant"
