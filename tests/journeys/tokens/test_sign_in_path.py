"""A passenger signs in to an application: by a browser, an independent client library, and the gateway."""

import json
import subprocess
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, HTTPServer
from pathlib import Path
from threading import Thread
from typing import Any
from urllib.parse import parse_qs, urlsplit

import pytest
from oauthlib.oauth2 import DeviceClient
from playwright.sync_api import Browser, Page, expect
from requests_oauthlib import OAuth2Session

from helpers import until
from journeys.conftest import Installation, sign_in
from journeys.test_shaping_path import LEAD
from tamarack.demo.world import STAFF

pytestmark = pytest.mark.journey

ADMIN = STAFF[0]
SCOPES = ["openid", "profile", "fares:quote", "offline_access"]


class _Application(BaseHTTPRequestHandler):
    """What an application on the passenger's machine answers where users are sent back to."""

    def do_GET(self) -> None:
        if self.path.startswith("/back?"):
            self.server.arrived.append(self.path)  # type: ignore[attr-defined]
        self.send_response(200)
        self.end_headers()
        self.wfile.write(b"back in the application")

    def log_message(self, *args: object) -> None:
        """Nothing: what arrives is looked at by the test."""


@pytest.fixture
def application() -> Iterator[HTTPServer]:
    """The application, listening, with what `arrived` at it."""
    server = HTTPServer(("127.0.0.1", 0), _Application)
    server.arrived = []  # type: ignore[attr-defined]
    Thread(target=server.serve_forever, daemon=True).start()
    yield server
    server.shutdown()
    server.server_close()


def berths(demo: Installation, token: str, *more: str, path: str = "/berths") -> int:
    """The status of a call of Berths with a token, by curl."""
    command = ["curl", "--silent", "--output", "/dev/null", "--write-out", "%{http_code}", *more,
               "--header", f"Authorization: Bearer {token}", f"{demo.production}/berths/v1{path}"]  # fmt: skip
    return int(subprocess.run(command, capture_output=True, text=True, check=True).stdout)


def test_a_passenger_signs_in_changes_the_password_agrees_and_takes_it_back(
    demo: Installation,
    page: Page,
    browser: Browser,
    application: HTTPServer,
    monkeypatch: pytest.MonkeyPatch,
    tmp_path: Path,
) -> None:
    monkeypatch.setenv("OAUTHLIB_INSECURE_TRANSPORT", "1")  # the demo is served on loopback
    # staff make a passenger, with a password that is shown once
    sign_in(page, demo.console, ADMIN.email, ADMIN.password)
    page.goto(f"{demo.console}/settings/directories/passengers/")
    page.get_by_label("Name", exact=True).fill("Astrid Moe")
    page.get_by_label("Mail address", exact=True).fill("a.moe@moe.example")
    page.get_by_role("button", name="Add, with a temporary password").click()
    temporary = page.get_by_role("status").locator("code").inner_text()
    page.reload()
    expect(page.get_by_text(temporary)).to_have_count(0)
    # the application's developer makes a client in the portal
    developer = browser.new_page()
    sign_in(developer, demo.portal, *LEAD)
    developer.goto(f"{demo.portal}/applications/")
    developer.get_by_role("link", name="Tern Mobile").first.click()
    developer.get_by_role("link", name="Add a client").click()
    developer.get_by_label("What users read it is called").fill("Tern on foot")
    developer.get_by_label("Environment").select_option("production")
    developer.get_by_label("It runs").select_option("no")
    developer.get_by_label("Where users are sent back to").fill("http://tern.example/back")
    developer.get_by_label("Ask what a passage costs in your name").check()
    developer.get_by_role("button", name="Make the client").click()
    expect(developer.get_by_text("is not encrypted; use https")).to_be_visible()
    developer.get_by_label("Where users are sent back to").fill("http://127.0.0.1/back")
    developer.get_by_label("signs users in on a device without a keyboard").check()
    developer.get_by_role("button", name="Make the client").click()
    client_id = developer.get_by_role("row").filter(has_text="client id").locator("code").inner_text()
    # the passenger is sent to the service by a library that knows nothing of it but its metadata
    issuer = f"{demo.sign_in}/passengers"
    known: dict[str, Any] = json.loads(
        subprocess.run(
            ["curl", "--silent", f"{issuer}/.well-known/openid-configuration"], capture_output=True, check=True
        ).stdout
    )
    assert known["issuer"] == issuer
    back = f"http://127.0.0.1:{application.server_port}/back"  # an application's own machine: the port is of the moment
    library = OAuth2Session(client_id, redirect_uri=back, scope=SCOPES, pkce="S256",
                            auto_refresh_kwargs={"client_id": client_id})  # fmt: skip
    address, state = library.authorization_url(known["authorization_endpoint"], nonce="n")
    passenger = browser.new_page()
    passenger.goto(address)
    passenger.get_by_label("Mail address").fill("a.moe@moe.example")
    passenger.get_by_label("Password").fill(temporary)
    passenger.get_by_role("button", name="Sign in").click()
    # the password that someone else set has to be changed, by the directory's rules
    passenger.get_by_label("Your present password").fill(temporary)
    passenger.get_by_label("New password").fill("gulls-and-tides")
    passenger.get_by_role("button", name="Change it").click()
    expect(passenger.get_by_text("needs a digit")).to_be_visible()
    passenger.get_by_label("Your present password").fill(temporary)
    passenger.get_by_label("New password").fill("gulls-and-tides-7")
    passenger.get_by_role("button", name="Change it").click()
    expect(passenger.get_by_text("Fares: Ask what a passage costs in your name")).to_be_visible()
    passenger.get_by_role("button", name="Allow", exact=True).click()
    expect(passenger.get_by_text("back in the application")).to_be_visible()
    (arrived,) = application.arrived  # type: ignore[attr-defined]
    told = parse_qs(urlsplit(arrived).query)
    assert told["state"] == [state] and told["iss"] == [issuer]
    made = library.fetch_token(known["token_endpoint"], code=told["code"][0], include_client_id=True)
    assert berths(demo, made["access_token"]) == 200
    # what the passenger did not agree to is refused, and the scope that is missing is named
    hold = ["--json", '{"vessel": "Guillemot"}', "--dump-header", str(tmp_path / "head")]
    assert berths(demo, made["access_token"], *hold, path="/berths/aldernes-1/holds") == 403
    head = (tmp_path / "head").read_text().lower()
    assert 'error="insufficient_scope"' in head and 'scope="berths:hold"' in head
    again = library.refresh_token(known["token_endpoint"], refresh_token=made["refresh_token"], client_id=client_id)
    assert berths(demo, again["access_token"]) == 200
    facts = library.get(known["userinfo_endpoint"]).json()
    assert facts["name"] == "Astrid Moe"
    # the call is counted to the application and the passenger
    page.goto(f"{demo.console}/traffic/calls?where=end-user+is+{facts['sub']}")
    until(lambda: page.reload() and "tern-mobile" in page.get_by_role("main").inner_text(), "the call")
    # a screen on the quay, which has no keyboard, is let in by the same passenger
    quay = OAuth2Session(client=DeviceClient(client_id, scope=SCOPES))
    shown = quay.post(known["device_authorization_endpoint"], data={"client_id": client_id, "scope": " ".join(SCOPES)},
                      withhold_token=True).json()  # fmt: skip
    passenger.goto(shown["verification_uri"])
    passenger.get_by_label("Code").fill("BBBB-BBBB")
    passenger.get_by_role("button", name="Go on").click()
    expect(passenger.get_by_text("No device waits with this code")).to_be_visible()
    passenger.get_by_label("Code").fill(shown["user_code"].lower())
    passenger.get_by_role("button", name="Go on").click()
    expect(passenger.get_by_text(shown["user_code"])).to_be_visible()
    passenger.get_by_role("button", name="Allow", exact=True).click()
    expect(passenger.get_by_text("The device is let in")).to_be_visible()
    on_the_quay = quay.fetch_token(known["token_endpoint"], device_code=shown["device_code"], include_client_id=True)
    assert berths(demo, on_the_quay["access_token"]) == 200
    # and what was agreed to is taken back: refused within a moment
    passenger.goto(f"{issuer}/")
    passenger.get_by_role("button", name="Take back").click()
    until(lambda: berths(demo, again["access_token"]) == 401, "the end of the token")
    until(lambda: berths(demo, on_the_quay["access_token"]) == 401, "the end of the quay's token")
    refused = library.post(known["token_endpoint"], data={"grant_type": "refresh_token", "client_id": client_id,
                                                          "refresh_token": again["refresh_token"]}, withhold_token=True)  # fmt: skip
    assert (refused.status_code, refused.json()["error"]) == (400, "invalid_grant")
    developer.close()
    passenger.close()
