"""The first path, end to end, in the browser and on the wire: publish, protect, meter, subscribe, watch."""

import json
import re
import shlex
import subprocess

import pytest
from playwright.sync_api import Page, expect

from helpers import until
from journeys.conftest import Installation, sign_in
from tamarack.demo.world import STAFF

pytestmark = pytest.mark.journey

FREIGHT = """
openapi: 3.0.3
info: {title: Freight, version: "1"}
paths:
  /ports:
    get: {summary: List the ports, responses: {"200": {description: ok}}}
  /sailings:
    get:
      summary: Find sailings
      parameters: [{$ref: "#/components/parameters/Day"}]
      responses: {"200": {description: ok}}
  /sailings/{id}:
    get: {summary: One sailing, responses: {"200": {description: ok}}}
components:
  parameters:
    Day: {name: day, in: query, schema: {type: string, format: date}}
"""


class Answer:
    """What curl printed of an answer."""

    def __init__(self, text: str) -> None:
        head, _, self.body = text.replace("\r\n", "\n").partition("\n\n")
        lines = head.split("\n")
        self.status = int(lines[0].split()[1])
        self.fields = {name.lower(): value.strip() for name, _, value in (line.partition(":") for line in lines[1:])}


def curl(*arguments: str) -> Answer:
    command = ["curl", "--silent", "--show-error", "--include", "--max-time", "20", *arguments]
    return Answer(subprocess.run(command, capture_output=True, text=True, check=True).stdout)


def test_a_service_becomes_a_managed_api_that_a_developer_calls(demo: Installation, page: Page) -> None:
    admin = STAFF[0]
    sign_in(page, demo.console, admin.email, admin.password)
    page.goto(demo.console)
    expect(page.get_by_role("heading", name="Overview")).to_be_visible()

    # 1. A backend, its connection tested step by step
    page.get_by_role("link", name="Backends").click()
    page.get_by_role("link", name="Add a backend").click()
    page.get_by_label("Name", exact=True).fill("harbour")
    page.get_by_label("Targets, one a line").fill("ftp://127.0.0.1:1")
    page.get_by_label("Targets, one a line").blur()
    expect(page.get_by_text("must start with http://")).to_be_visible()
    page.get_by_label("Targets, one a line").fill("http://127.0.0.1:1")
    page.get_by_role("button", name="Test the connection").click()
    expect(page.get_by_text("may not be reached from here")).to_be_visible()
    page.get_by_label("Targets, one a line").fill(f"http://127.0.0.1:{demo.base + 20}")
    page.get_by_role("button", name="Test the connection").click()
    expect(page.get_by_text("HTTP, reached")).to_be_visible()
    page.get_by_role("button", name="Save to the draft").click()
    expect(page.get_by_text("Backend harbour is in the draft.")).to_be_visible()

    # 2. An OpenAPI document: a broken one shows where, a good one is shown before it is saved
    page.goto(f"{demo.console}/apis/new/")
    page.get_by_label("Paste it (YAML or JSON)").fill(FREIGHT.replace("paths:", "paths: ["))
    page.get_by_role("button", name="Read the text").click()
    expect(page.get_by_text("cannot be read")).to_be_visible()
    expect(page.get_by_role("list", name="Lines of the document")).to_contain_text("summary: List the ports")
    page.get_by_role("link", name="bring it in again").click()
    page.get_by_label("Paste it (YAML or JSON)").fill(FREIGHT)
    page.get_by_role("button", name="Read the text").click()
    expect(page.get_by_text("3 operations").first).to_be_visible()
    expect(page.get_by_text("no parameter describes it")).to_be_visible()
    expect(page.get_by_label("Base path on the gateway")).to_have_value("/freight/v1")
    page.get_by_label("Backend", exact=True).select_option("harbour")
    page.get_by_role("button", name="Save to the draft").click()
    expect(page.get_by_text("Freight 1 is in the draft, with 3 operations.")).to_be_visible()
    expect(page.get_by_text("Nobody may call: nothing here")).to_be_visible()

    # 3. Its call path: a key, one open operation, a limit; checked while it is typed
    page.get_by_label("Add to Identify, Freight 1").click()
    page.get_by_role("link", name="API key").click()
    page.get_by_label("Header", exact=True).fill("x skerry key")
    expect(page.get_by_text("is not a header field name").first).to_be_visible()
    page.get_by_label("Header", exact=True).fill("x-skerry-key")
    page.get_by_label("Query parameter").fill("key")
    page.get_by_role("button", name="Place it").click()
    expect(
        page.get_by_label("What holds for the whole API").get_by_text(
            "The caller shows a key in the header x-skerry-key"
        )
    ).to_be_visible()
    page.get_by_role("navigation", name="Operations").get_by_role("link", name="/ports").click()
    page.get_by_label("Add to Identify, get /ports").click()
    page.get_by_role("link", name="Open to anyone").click()
    page.get_by_role("button", name="Place it").click()
    expect(page.get_by_text("Anyone may call; no credential")).to_be_visible()
    page.get_by_role("navigation", name="Operations").get_by_role("link", name="whole API").click()
    page.get_by_label("Add to Meter, Freight 1").click()
    page.get_by_role("link", name="Rate limit").click()
    page.get_by_label("At most, as text").fill("3 per day")
    page.get_by_role("button", name="Place it").click()
    expect(page.get_by_text("Each caller may call 3 times a day.")).to_be_visible()
    # one further in would replace it: it asks, and keeps the answer while the words are still being checked
    page.get_by_role("navigation", name="Operations").get_by_role("link", name="/ports").click()
    page.get_by_label("Add to Meter, get /ports").click()
    page.get_by_role("link", name="Rate limit", exact=True).click()
    page.get_by_label("At most, as text").fill("2000 per day")
    expect(page.get_by_text("freight 1 has a policy of this name")).to_be_visible()
    page.get_by_label("keep both").check()
    page.get_by_role("button", name="Place it").click()
    expect(page.get_by_text("Each caller may call 2 000 times a day.")).to_be_visible()
    page.get_by_role("navigation", name="Operations").get_by_role("link", name="whole API").click()

    # … and offered: packaged in a product with an automatic plan
    page.goto(f"{demo.console}/plans/passage")
    page.get_by_role("checkbox", name="Freight", exact=True).check()
    page.get_by_role("button", name="Save to the draft").click()
    expect(page.get_by_text("Passage is saved in the draft.")).to_be_visible()

    # 4. Reviewed and rolled out, to test and to production; every node takes it up
    for environment in ("test", "production"):
        page.get_by_role("button", name=environment, exact=True).click()
        page.get_by_role("link", name=re.compile("not rolled out")).click()
        expect(page.get_by_text("Freight is new, with 3 operations at /freight/v1")).to_be_visible()
        expect(page.get_by_text("get /ports is open to anyone, without a credential").first).to_be_visible()
        page.get_by_label("Note for the history").fill("freight")
        page.get_by_role("button", name=f"Roll out to {environment}").click()
        expect(page.get_by_text("Every node that responds is running it.")).to_be_visible()
    rolled_out = page.url

    # 6. Calls before there is a key
    freight = f"{demo.production}/freight/v1"
    assert curl(f"{freight}/ports").status == 200
    refused = curl(f"{freight}/sailings")
    assert (refused.status, json.loads(refused.body)["reason"]) == (401, "no-credential")
    assert refused.fields["www-authenticate"].startswith("ApiKey")
    assert curl("-H", "x-skerry-key: tmk_wrong", f"{freight}/sailings").status == 401

    # 5. A developer finds it, reads it, subscribes a new application, and calls with the line that is shown
    sign_in(page, demo.portal, "m.tern@tern-trips.example", "island-hopper-52")
    page.goto(demo.portal)
    page.get_by_role("searchbox").fill("freight")
    page.get_by_role("searchbox").press("Enter")
    page.get_by_role("link", name="Freight", exact=True).click()
    page.get_by_role("link", name="One sailing").click()
    expect(page.get_by_text("x-skerry-key: YOUR-KEY").first).to_be_visible()
    page.get_by_role("link", name="Freight", exact=True).click()
    page.get_by_role("link", name=re.compile("^Subscribe")).click()
    page.get_by_label("a new one").check()
    page.get_by_label("Name of the new application").fill("Freight Watch")
    page.get_by_role("button", name="Subscribe").click()
    expect(page.get_by_role("heading", name="Your new key")).to_be_visible()
    assert page.url.endswith("/apis/freight/1/"), "without leaving the page"
    line = page.locator("#first-call").inner_text()
    key = page.locator("#key").inner_text()
    done = until(lambda: _works(line), "the first call with the new key")
    assert "ratelimit-policy" in done.fields
    page.get_by_role("link", name="To Freight Watch").click()
    application = page.url

    # 6. Over the limit, and the other refusals
    while (over := curl("-H", f"x-skerry-key: {key}", f"{freight}/sailings")).status == 200:
        pass
    assert (over.status, json.loads(over.body)["reason"]) == (429, "over-rate"), (
        demo.home / "logs" / "production-1.log"
    ).read_text()[-2000:]
    assert int(over.fields["retry-after"]) > 0
    assert over.fields["ratelimit"].startswith('"rate-limit";r=0;t=')
    assert curl("-H", f"x-skerry-key: {key}", f"{demo.production}/positions/v1/vessels").status == 403
    assert curl(f"{freight}/nothing").status == 404
    assert curl("-X", "DELETE", f"{freight}/ports").fields["allow"] == "GET, HEAD"
    large = curl("-H", f"x-skerry-key: {key}", "--data-binary", "x" * 70_000, f"{demo.production}/fares/v1/quotes")
    assert (large.status, json.loads(large.body)["reason"]) == (413, "too-large")

    # 7. Seen on the Traffic page, and found again by its id
    sign_in(page, demo.console, admin.email, admin.password)
    call_id = over.fields["tamarack-call-id"]
    until(lambda: page.request.get(f"{demo.console}/traffic/calls/{call_id}").ok, "the record of the call")
    page.goto(f"{demo.console}/traffic/?span=hour&api=freight")
    expect(page.get_by_role("row", name=re.compile("over-rate.*freight-watch"))).to_be_visible()
    page.keyboard.press("Control+k")
    page.get_by_role("searchbox", name="Find").fill(call_id)
    page.get_by_role("link", name=re.compile("call, 429")).click()
    expect(page.get_by_text("A rate limit is used up")).to_be_visible()

    # A revoked key stops working, without a rollout
    sign_in(page, demo.portal, "m.tern@tern-trips.example", "island-hopper-52")
    page.goto(application)
    page.get_by_role("link", name=re.compile("^tmk_")).first.click()
    page.get_by_role("button", name="Revoke").click()
    expect(page.get_by_text("Calls with it are refused within a second")).to_be_visible()
    revoked = until(lambda: _refused(freight, key, "revoked-credential"), "the revocation at the node", 5)
    assert revoked.status == 401

    # 4. Rolled back: the API is gone from the gateway, and the draft is as it was
    sign_in(page, demo.console, admin.email, admin.password)
    page.goto(rolled_out)
    page.get_by_role("button", name=re.compile("Roll back to")).click()
    expect(page.get_by_text("Every node that responds is running it.")).to_be_visible()
    assert curl(f"{freight}/ports").status == 404
    expect(page.get_by_role("link", name=re.compile("not rolled out"))).to_be_visible()


def _works(line: str) -> Answer | None:
    answer = Answer(
        subprocess.run(shlex.split(line.replace("\\\n", " ")), capture_output=True, text=True, check=True).stdout
    )
    return answer if answer.status == 200 else None


def _refused(freight: str, key: str, reason: str) -> Answer | None:
    answer = curl("-H", f"x-skerry-key: {key}", f"{freight}/sailings")
    return answer if reason in answer.body else None
