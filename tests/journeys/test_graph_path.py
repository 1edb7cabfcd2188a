"""A graph, from publishing it to exploring it, on the running demo: refused without a key, closed by field, bounded by
depth before the backend hears of it, given as REST, told by events, and weighed while it is typed."""

import json
import re
from typing import Any

import psycopg
import pytest
from playwright.sync_api import Page, expect

from helpers import until
from journeys.conftest import Installation, sign_in
from journeys.test_first_path import Answer, curl
from tamarack.demo.places import FLEET_GRAPH
from tamarack.demo.world import STAFF

pytestmark = pytest.mark.journey

DEEP = "{ vessels { crossings { to { crossings { to { name } } } } } }"
BERTHS = '{ port(code: "corran") { name berths { id } } }'


def asked(demo: Installation, document: str, key: str = "", path: str = "/quay-graph/v1") -> tuple[Answer, Any]:
    """A document as a program sends it, and what it was told."""
    shown = ["-H", f"x-api-key: {key}"] if key else []
    accept = "accept: application/graphql-response+json"
    body = json.dumps({"query": document})
    answer = curl(*shown, "-H", "content-type: application/json", "-H", accept, "-d", body, demo.production + path)
    return answer, json.loads(answer.body)


def reason(told: Any) -> str:
    return str(told["errors"][0]["extensions"]["reason"])


def test_a_graph_is_published_protected_and_explored(demo: Installation, page: Page) -> None:
    admin = STAFF[0]
    sign_in(page, demo.console, admin.email, admin.password)
    page.goto(f"{demo.console}/apis/new/")
    page.get_by_role("link", name="Start from a GraphQL schema").click()
    page.get_by_label("Address", exact=True).fill(f"http://127.0.0.1:{demo.base + 20 + FLEET_GRAPH}")
    page.get_by_role("button", name="Ask for its schema").click()
    expect(page.get_by_role("heading", name="What was understood")).to_be_visible()
    page.get_by_label("Title").fill("Quay Graph")
    page.get_by_label("Name in addresses and files").fill("quay-graph")
    page.get_by_label("Base path").fill("/quay-graph/v1")
    page.get_by_role("button", name="Save to the draft").click()
    expect(page.get_by_text("Quay Graph 1 is in the draft, with 2 operations.")).to_be_visible()
    # berths are for one plan alone, and five levels are enough
    page.get_by_label("Add to Permit, Quay Graph 1").click()
    page.get_by_role("link", name="GraphQL fields").click()
    page.get_by_label("Who may ask for what").fill("Berth.*: plans passage/liner\nVessel.oldName: nobody")
    page.get_by_role("button", name="Place it").click()
    page.get_by_role("link", name=re.compile("GraphQL limits")).click()
    page.get_by_label("Depth", exact=True).fill("5")
    page.get_by_role("button", name=re.compile("Save|Place it")).first.click()
    page.goto(f"{demo.console}/plans/passage")
    page.get_by_role("checkbox", name="Quay Graph", exact=True).check()
    page.get_by_role("button", name="Save to the draft").click()
    page.get_by_role("link", name=re.compile("not rolled out")).click()
    page.get_by_role("button", name="Roll out to production").click()
    expect(page.get_by_text("Every node that responds is running it.")).to_be_visible()
    # without a key; with one; a closed field, named; without it; too deep, before the backend hears of it
    without, told = asked(demo, "{ ports { name } }")
    assert without.status == 401 and reason(told) == "no-credential"
    sign_in(page, demo.portal, "a.quay@skerry.example", "counter-desk-88")
    page.goto(f"{demo.portal}/applications/")
    page.get_by_role("link", name="Counter Desk").click()
    page.get_by_label("Environment of the new key").select_option("production")
    page.get_by_role("button", name="Make a key").click()
    key = page.locator("#key").inner_text()
    until(lambda: asked(demo, "{ ports { name } }", key)[0].status == 200, "the key")
    assert len(asked(demo, "{ ports { name } }", key)[1]["data"]["ports"]) == 6
    closed, told = asked(demo, BERTHS, key)
    assert (closed.status, reason(told)) == (403, "closed-field")
    assert "`id` of `Berth` is not open to the plan cutter" in told["errors"][0]["message"]
    assert asked(demo, BERTHS.replace("berths { id }", ""), key)[1]["data"]["port"]["name"] == "Corran"
    deep, told = asked(demo, DEEP, key)
    assert (deep.status, reason(told)) == (400, "over-graphql-limit") and "depth is 6" in told["errors"][0]["message"]
    query = ("SELECT target, graph_depth FROM call WHERE api = 'quay-graph' AND reason = 'over-graphql-limit'"
             " AND graph_operation = 'query vessels'")  # fmt: skip
    with psycopg.connect(demo.database) as connection:
        until(lambda: connection.execute(query).fetchall() == [("", 6)], "the record of a call that no target saw")
    # the same rules hold for a document that is published as a REST operation
    page.goto(f"{demo.console}/apis/quay-graph/1/rest/")
    page.get_by_label("Path").fill("/quays/{code}")
    page.get_by_label("Document", exact=True).fill("query Quay($code: ID!) { port(code: $code) { name } }")
    expect(page.get_by_text("GET /quay-graph/v1/quays/{code}")).to_be_visible()
    page.get_by_label("Summary").fill("One quay")
    page.get_by_role("button", name="Save to the draft").click()
    page.get_by_role("link", name=re.compile("not rolled out")).click()
    page.get_by_role("button", name="Roll out to production").click()
    expect(page.get_by_text("Every node that responds is running it.")).to_be_visible()
    quay = f"{demo.production}/quay-graph/v1/quays/"
    assert json.loads(curl("-H", f"x-api-key: {key}", quay + "corran").body) == {"name": "Corran"}
    nowhere = curl("-H", f"x-api-key: {key}", quay + "lamp")
    assert nowhere.status == 404 and json.loads(nowhere.body)["reason"] == "nothing-found"
    # subscriptions come as events; WebSockets are refused with where to go instead
    subscribing = json.dumps({"query": 'subscription { departures(port: "corran") { to { name } } }'})
    json_and_events = ["-H", "content-type: application/json", "-H", "accept: text/event-stream", "-d", subscribing]
    events = curl("-H", f"x-api-key: {key}", *json_and_events, demo.production + "/quay-graph/v1").body
    assert events.count("event: next\n") >= 1 and events.endswith("event: complete\ndata: \n\n")
    upgrade = ["connection: upgrade", "upgrade: websocket", "sec-websocket-version: 13", "sec-websocket-key: AAAA"]
    refused = curl(*(part for field in upgrade for part in ("-H", field)), demo.production + "/quay-graph/v1")
    assert reason(json.loads(refused.body)) == "no-web-socket"
    # the explorer shows the count while it is typed, what is not open, and the answer
    page.goto(f"{demo.portal}/apis/quay-graph/1/")
    expect(page.get_by_text("One quay")).to_be_visible()
    page.get_by_role("link", name="Explore").click()
    expect(page.locator(".graph-editor")).to_be_visible()  # it has taken the place of the plain field
    page.get_by_label("Document", exact=True).fill(DEEP)
    expect(page.get_by_text("6 of 5")).to_be_visible()
    page.get_by_label("Document", exact=True).fill(BERTHS)
    expect(page.get_by_text("Not open to you: Berth.id.")).to_be_visible()
    expect(page.get_by_label("Schema")).not_to_contain_text("Berth")
    page.get_by_label("Document", exact=True).fill("{ vessels(first: 1) { title } }")
    expect(page.get_by_text("2 of 5")).to_be_visible()
    page.get_by_label("Document", exact=True).fill("")  # the editor knows the schema
    page.get_by_label("Document", exact=True).press_sequentially("{ ves")
    expect(page.get_by_role("option", name="vessels")).to_be_visible()
    page.keyboard.press("Escape")
    page.get_by_label("Document", exact=True).fill("{ vessels(first: 1) { title } }")
    expect(page.get_by_text("2 of 5")).to_be_visible()
    page.get_by_label("Document", exact=True).press("Control+Enter")
    expect(page.get_by_text('"title": "Guillemot"')).to_be_visible()
    expect(page.get_by_text("earlier")).to_be_visible()
