"""Independent clients, unchanged, against the running service: an OpenID client of JavaScript in a browser, and oauthlib.

The page that the JavaScript runs on is an application of another site: it asks the service across origins.
"""

import re
import subprocess
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from threading import Thread
from typing import Any

import pytest
from oauthlib.oauth2 import BackendApplicationClient
from playwright.sync_api import Browser, Page, expect
from requests_oauthlib import OAuth2Session

from helpers import until
from journeys.conftest import Installation, sign_in
from tamarack.demo.sign_in import PASSWORD, USER
from tamarack.demo.world import STAFF

pytestmark = pytest.mark.journey

LIBRARY = Path(__file__).with_name("clients") / "openid-client.js"
SCOPE = "openid profile email offline_access fares:quote bookings:cancel"

BEGIN = """async ([issuer, client, secret, scope, resource, redirect]) => {
    const oidc = await import("/openid-client.js");
    const config = await oidc.discovery(new URL(issuer), client, secret || undefined, secret ? undefined : oidc.None(),
        {execute: [oidc.allowInsecureRequests, oidc.enableNonRepudiationChecks]});
    const verifier = oidc.randomPKCECodeVerifier();
    const kept = {verifier, state: oidc.randomState(), nonce: oidc.randomNonce()};
    const asked = {redirect_uri: redirect, scope, state: kept.state, nonce: kept.nonce, code_challenge_method: "S256",
        code_challenge: await oidc.calculatePKCECodeChallenge(verifier)};
    if (resource) asked.resource = resource;
    const address = secret ? await oidc.buildAuthorizationUrlWithPAR(config, asked)
        : oidc.buildAuthorizationUrl(config, asked);
    return {...kept, address: address.href};
}"""

FINISH = """async ([issuer, client, secret, kept, came, renews]) => {
    const oidc = await import("/openid-client.js");
    const config = await oidc.discovery(new URL(issuer), client, secret || undefined, secret ? undefined : oidc.None(),
        {execute: [oidc.allowInsecureRequests, oidc.enableNonRepudiationChecks]});
    const made = await oidc.authorizationCodeGrant(config, new URL(came), {pkceCodeVerifier: kept.verifier,
        expectedState: kept.state, expectedNonce: kept.nonce, idTokenExpected: true});
    const claims = made.claims();
    const user = await oidc.fetchUserInfo(config, made.access_token, claims.sub);
    const told = {made: {...made}, claims, user};
    if (renews) {
        told.renewed = {...await oidc.refreshTokenGrant(config, made.refresh_token)};
        told.again = await oidc.refreshTokenGrant(config, made.refresh_token).catch((error) => error.error);
    }
    return told;
}"""

SERVER = """async ([issuer, client, secret, resource]) => {
    const oidc = await import("/openid-client.js");
    const said = {};
    for (const [name, auth] of [["post", oidc.ClientSecretPost(secret)], ["basic", oidc.ClientSecretBasic(secret)]]) {
        const config = await oidc.discovery(new URL(issuer), client, undefined, auth,
            {execute: [oidc.allowInsecureRequests]});
        const made = await oidc.clientCredentialsGrant(config, {scope: "fares:quote", resource});
        const good = await oidc.tokenIntrospection(config, made.access_token);
        await oidc.tokenRevocation(config, made.access_token);
        const over = await oidc.tokenIntrospection(config, made.access_token);
        said[name] = {scope: made.scope, good: good.active, for: good.aud, over: over.active};
    }
    const wrong = await oidc.discovery(new URL(issuer), client, undefined, oidc.ClientSecretBasic("wrong"),
        {execute: [oidc.allowInsecureRequests]});
    said.wrong = await oidc.clientCredentialsGrant(wrong).catch((error) => error.status);
    return said;
}"""

DEVICE = """async ([issuer, client, scope]) => {
    const oidc = await import("/openid-client.js");
    const config = await oidc.discovery(new URL(issuer), client, undefined, oidc.None(),
        {execute: [oidc.allowInsecureRequests, oidc.enableNonRepudiationChecks]});
    const shown = await oidc.initiateDeviceAuthorization(config, {scope});
    window.polled = oidc.pollDeviceAuthorizationGrant(config, shown).then((made) => made.claims().sub);
    return {...shown};
}"""


class _Site(BaseHTTPRequestHandler):
    """An application of another site, which has the library and nothing else."""

    def do_GET(self) -> None:
        is_library = self.path.endswith(".js")
        body = LIBRARY.read_bytes() if is_library else b"<!doctype html><title>An application</title>"
        self.send_response(200)
        self.send_header("Content-Type", "text/javascript" if is_library else "text/html")
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, format: str, *args: object) -> None:
        pass


@pytest.fixture
def site(page: Page) -> Iterator[tuple[Page, str]]:
    """A page of that application, and its address."""
    server = ThreadingHTTPServer(("127.0.0.1", 0), _Site)
    thread = Thread(target=server.serve_forever)
    thread.start()
    address = f"http://127.0.0.1:{server.server_port}"
    page.goto(f"{address}/")
    yield page, f"{address}/back"
    page.goto("about:blank")
    server.shutdown()
    thread.join()
    server.server_close()


def client_of(demo: Installation, console: Page, **fields: Any) -> tuple[str, str]:
    """A client that staff make in the console: its id, and its secret."""
    if console.url == "about:blank":
        sign_in(console, demo.console, STAFF[0].email, STAFF[0].password)
    console.goto(f"{demo.console}/settings/directories/passengers/clients/new")
    console.get_by_label("Application").fill("tern-mobile")
    console.get_by_label("What users read it is called").fill(fields["title"])
    console.locator("#f-environment").select_option("production")
    console.get_by_label("It runs").select_option("yes" if fields["secret"] else "no")
    for words in ("calls for itself",) if fields["secret"] else ("signs users in on a device without a keyboard",):
        console.get_by_label(words).check()
    console.get_by_label("Where users are sent back to").fill("http://127.0.0.1/back")
    for scope in ("Ask what a passage costs", "Give back room on deck"):
        console.get_by_label(scope).check()
    console.get_by_role("button", name="Make the client").click()
    secret = console.get_by_role("status").locator("code").inner_text() if fields["secret"] else ""
    return console.get_by_role("row").filter(has_text="client id").locator("code").inner_text(), secret


def agree(page: Page, address: str, back: str, again: bool = False) -> str:
    """What the browser comes back with, after the passenger signed in and allowed it; `again`, they did before."""
    page.goto(address)
    if page.get_by_label("Password").count():
        page.get_by_label("Mail address").fill(USER)
        page.get_by_label("Password").fill(PASSWORD)
        page.get_by_role("button", name="Sign in").click()
    if not again:
        page.get_by_role("button", name="Allow", exact=True).click()
    page.wait_for_url(f"{back}**")
    return page.url


def status_of(method: str, url: str, token: str) -> int:
    command = ["curl", "--silent", "--output", "/dev/null", "--write-out", "%{http_code}", "--request", method,
               "--header", f"Authorization: Bearer {token}", url]  # fmt: skip
    return int(subprocess.run(command, capture_output=True, text=True, check=True).stdout)


def test_a_javascript_client_in_a_browser_signs_a_passenger_in_and_an_opaque_token_opens_its_api(
    demo: Installation, site: tuple[Page, str], browser: Browser
) -> None:
    page, back = site
    console = browser.new_page()
    issuer = f"{demo.sign_in}/passengers"
    client, _ = client_of(demo, console, title="Tern in a page", secret=False)
    kept = page.evaluate(BEGIN, [issuer, client, "", SCOPE, "", back])
    came = agree(page, kept["address"], back)
    told = page.evaluate(FINISH, [issuer, client, "", kept, came, True])
    assert told["claims"]["name"] == told["user"]["name"] == "Nell Holm" and told["claims"]["amr"] == ["pwd"]
    assert told["user"]["email"] == USER and told["again"] == "invalid_grant", "a refresh token is good once"
    # a token with the scope of an API that chose opaque ones says nothing, and opens both
    opaque = told["renewed"]["access_token"]
    assert re.fullmatch("at_[A-Za-z0-9_-]{43}", opaque)
    assert status_of("GET", f"{demo.production}/fares/v1/tariffs", opaque) == 401, "used twice, it has ended"
    kept = page.evaluate(BEGIN, [issuer, client, "", SCOPE, "", back])
    page.context.clear_cookies()  # signed in anew, whoever agreed before is sent straight back
    came = agree(page, kept["address"], back, again=True)
    token = page.evaluate(FINISH, [issuer, client, "", kept, came, False])["made"]["access_token"]
    booking = f"{demo.production}/freight/v2/bookings/KC-1042"
    assert status_of("GET", f"{demo.production}/fares/v1/tariffs", token) == 200
    assert status_of("DELETE", booking, token) in (200, 204)
    assert status_of("DELETE", booking, "at_" + "x" * 43) == 401
    # the device grant of the same client, answered by the passenger in another window
    shown = page.evaluate(DEVICE, [issuer, client, "openid fares:quote"])
    passenger = page.context.new_page()
    passenger.goto(shown["verification_uri_complete"])
    passenger.get_by_role("button", name="Go on").click()
    passenger.get_by_role("button", name="Allow", exact=True).click()
    expect(passenger.get_by_text("The device is let in")).to_be_visible()
    assert page.evaluate("window.polled") == told["claims"]["sub"]
    # what the passenger takes back is refused everywhere, opaque or not
    passenger.goto(f"{issuer}/")
    passenger.get_by_role("article").filter(has_text="Tern in a page").get_by_role("button", name="Take back").click()
    until(lambda: status_of("GET", f"{demo.production}/fares/v1/tariffs", token) == 401, "the end of the token")
    console.close()


def test_clients_with_a_secret_push_requests_ask_for_themselves_introspect_and_revoke(
    demo: Installation, site: tuple[Page, str], browser: Browser, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("OAUTHLIB_INSECURE_TRANSPORT", "1")  # the demo is served on loopback
    page, back = site
    console = browser.new_page()
    issuer, fares = f"{demo.sign_in}/passengers", f"{demo.production}/fares/v1"
    client, secret = client_of(demo, console, title="Tern behind the page", secret=True)
    said = page.evaluate(SERVER, [issuer, client, secret, fares])
    for way in ("post", "basic"):
        assert said[way] == {"scope": "fares:quote", "good": True, "for": fares, "over": False}
    assert said["wrong"] == 401
    # a pushed request, whose parameters no browser sees
    kept = page.evaluate(BEGIN, [issuer, client, secret, SCOPE, fares, back])
    assert "request_uri=" in kept["address"] and "state=" not in kept["address"]
    told = page.evaluate(FINISH, [issuer, client, secret, kept, agree(page, kept["address"], back), False])
    assert told["made"]["scope"] == "openid profile email offline_access fares:quote", "of that API alone"
    # the client of Python asks for itself, calls, and gives the token back
    library = OAuth2Session(client=BackendApplicationClient(client, scope="fares:quote"))
    made = library.fetch_token(f"{issuer}/token", client_secret=secret)
    assert library.get(f"{fares}/tariffs").status_code == 200
    address, headers, body = library._client.prepare_token_revocation_request(f"{issuer}/revoke", made["access_token"])
    answer = library.post(address, data=body, headers=headers, auth=(client, secret), withhold_token=True)
    assert answer.status_code == 200
    until(lambda: status_of("GET", f"{fares}/tariffs", made["access_token"]) == 401, "the end of the token")
    console.close()
