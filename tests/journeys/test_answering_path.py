"""Answers without a backend, and backends that stay up: caches, mocks, and a target that dies under load."""

import json
import os
import re
import signal
import socket
import threading
import time
from contextlib import suppress
from http.client import HTTPConnection
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any
from urllib.parse import urlsplit

import pytest
from playwright.sync_api import Page, expect

from helpers import until
from journeys.conftest import Installation, sign_in
from tamarack.demo.world import STAFF

pytestmark = pytest.mark.journey

ADMIN = STAFF[0]
QUOTE = '{"from": "corran", "to": "eskholm", "day": "2026-12-01", "adults": 3, "children": 1, "vehicle": "none"}'


def ask(
    demo: Installation, path: str, key: str, method: str = "GET", body: str = "", **fields: str
) -> tuple[int, dict[str, str], bytes]:
    """A call to the first production node, with an application's key."""
    shown = (demo.home / "demo" / f"{key}.production.key").read_text()
    headers = {"X-Skerry-Key": shown} | {name.replace("_", "-"): value for name, value in fields.items()}
    connection = HTTPConnection("127.0.0.1", urlsplit(demo.production).port, timeout=20)
    connection.request(method, path, body or None, headers)
    answer = connection.getresponse()
    found = answer.status, {name.lower(): value for name, value in answer.getheaders()}, answer.read()
    connection.close()
    return found


def test_a_search_by_post_is_kept_by_its_fields_and_the_trace_tells_miss_then_hit(
    demo: Installation, page: Page
) -> None:
    sign_in(page, demo.console, ADMIN.email, ADMIN.password)
    page.goto(f"{demo.console}/apis/fares/1/bench/?operation=post+/quotes")
    page.get_by_label("Made as").select_option(label="Kiosk, Ticket Office")
    page.get_by_label("Headers").fill("content-type: application/json")
    page.get_by_label("Body").fill(QUOTE)
    for said in ("miss; kept, fresh for 120 s; key POST", "hit; key POST"):
        page.get_by_role("button", name="Send the call").click()
        expect(page.locator("#trace")).to_contain_text(said)
    expect(page.locator("#trace")).to_contain_text('/from: "corran"')
    page.goto(f"{demo.console}/kept/policy?policy=fares/1/post+/quotes/quotes")
    expect(page.get_by_role("row").filter(has_text="/adults: 3")).to_contain_text("200")
    page.get_by_role("row").filter(has_text="/adults: 3").get_by_role("button").first.click()
    expect(page.get_by_text("All nodes of production forget the answer POST")).to_be_visible()
    until(lambda: b"hit" not in _status(demo), "the answer to be forgotten on all nodes", 5)


def _status(demo: Installation, waits: bool = False) -> bytes:
    """What the cache says of a quote. Whoever `waits` for it may ask more often than the limit lets: nothing, then."""
    status, fields, _ = ask(demo, "/fares/v1/quotes", "kiosk", "POST", QUOTE, content_type="application/json")
    if waits and status == 429:
        return b""
    assert status == 200
    return fields["cache-status"].encode()


def test_a_version_on_mocks_answers_in_json_and_xml_and_as_its_rules_choose(demo: Installation, page: Page) -> None:
    def booked(**asked: Any) -> tuple[int, dict[str, str], bytes]:
        body = json.dumps({"sailing": "G-0745", "goods": "crates", "length_metres": 4} | asked)
        return ask(demo, "/freight/v2/bookings", "manifest-sync", "POST", body, content_type="application/json")

    status, fields, body = ask(demo, "/freight/v2/bookings?sailing=G-0745", "manifest-sync", accept="application/xml")
    assert (status, fields["content-type"]) == (200, "application/xml")
    assert b'<booking id="KC-0000">' in body
    assert json.loads(ask(demo, "/freight/v2/bookings?sailing=G-0745", "manifest-sync")[2])[0]["id"] == "KC-0000"
    assert (booked()[0], booked(length_metres=19)[0], json.loads(booked(goods="livestock")[2])["state"]) == (
        201, 409, "waiting",
    )  # fmt: skip
    assert ask(demo, "/freight/v2/bookings/KC-1", "manifest-sync", prefer="code=404")[0] == 404
    # a notice of maintenance is placed for some, and an answer is typed in place of the documented one
    sign_in(page, demo.console, ADMIN.email, ADMIN.password)
    page.goto(f"{demo.console}/apis/freight-bookings/2/")
    expect(page.get_by_role("table", name="Call path")).to_contain_text("No backend")
    page.get_by_label("Add to Answer, Freight Bookings 2").click()
    page.get_by_role("link", name="Fixed answer").click()
    page.get_by_label("Status").fill("503")
    page.get_by_label("Content type").fill("text/plain")
    page.get_by_label("Body").fill("Good day {{ caller.application }}, the desk is closed")
    page.get_by_label("Only for calls where").fill("header x-trial is present")
    page.get_by_role("button", name="Place it").click()
    expect(page.get_by_text("are answered 503 with what is typed here")).to_be_visible()
    page.goto(f"{demo.console}/apis/freight-bookings/2/answers/?operation=get+/bookings/{{id}}")
    card = page.get_by_role("article").filter(has_text="404")
    card.get_by_text("Type another in its place").click()
    card.get_by_label("Body").fill('{"title": 7}')
    expect(card.get_by_text("/title: 7 is not of type")).to_be_visible()
    card.get_by_label("Body").fill('{"title": "Sunk"}')
    expect(card.get_by_text("It fits the schema.")).to_be_visible()
    card.get_by_role("button", name="Save to the draft").click()
    expect(page.get_by_text("typed here")).to_be_visible()
    page.goto(f"{demo.console}/review")
    page.get_by_role("button", name="Roll out to production").click()
    expect(page.get_by_text("Every node that responds is running it.")).to_be_visible()
    closed = ask(demo, "/freight/v2/bookings?sailing=G", "manifest-sync", x_trial="1")
    assert (closed[0], closed[2]) == (503, b"Good day manifest-sync, the desk is closed")
    missing = ask(demo, "/freight/v2/bookings/KC-9999", "manifest-sync")
    assert (missing[0], json.loads(missing[2])) == (404, {"title": "Sunk"})


def test_a_target_that_dies_under_load_costs_no_repeatable_call_and_comes_back(demo: Installation, page: Page) -> None:
    first, second = Vessels(), Vessels()
    try:
        sign_in(page, demo.console, ADMIN.email, ADMIN.password)
        page.goto(f"{demo.console}/backends/positions")
        page.get_by_label("Targets, one a line").fill(f"{first.address}\n{second.address}")
        page.get_by_role("button", name="Save to the draft").click()
        page.goto(f"{demo.console}/review")
        page.get_by_role("button", name="Roll out to production").click()
        expect(page.get_by_text("Every node that responds is running it.")).to_be_visible()
        statuses: list[int] = []

        def load(until_many: int) -> None:
            while len(statuses) < until_many:
                statuses.append(ask(demo, "/positions/v1/vessels", "island-planner")[0])
                time.sleep(0.13)  # within the plan's limits, which are not what is tried here

        load(10)
        assert first.asked and second.asked
        first.close()
        load(40)
        assert set(statuses) == {200}
        page.goto(f"{demo.console}/backends/positions")
        row = page.get_by_role("row").filter(has_text=first.authority).filter(has_text="production-1")
        expect(row).to_contain_text("open")  # or half-open, where its time was over meanwhile
        expect(
            page.get_by_text(re.compile("calls in a row failed, the last: took no connection")).first
        ).to_be_visible()
        first.open_again()
        asked = first.asked
        until(lambda: load(len(statuses) + 2) or first.asked > asked + 4, "calls to it again", 40)
        assert set(statuses) == {200}
        expect(row).to_contain_text("well")
    finally:
        first.close()
        second.close()


def test_answers_shared_in_redis_may_lose_it_and_calls_go_on_to_the_backend(demo: Installation, page: Page) -> None:
    sign_in(page, demo.console, ADMIN.email, ADMIN.password)
    page.goto(f"{demo.console}/apis/fares/1/?operation=post+/quotes")
    page.locator("a.slip").filter(has_text="Quotes").click()
    page.get_by_text("More", exact=True).click()
    page.get_by_label("Kept", exact=True).select_option("shared by all nodes")
    page.get_by_role("button", name="Save to the draft").click()
    page.goto(f"{demo.console}/review")
    page.get_by_role("button", name="Roll out to production").click()
    expect(page.get_by_text("Every node that responds is running it.")).to_be_visible()
    until(lambda: b"; hit" in _status(demo, waits=True), "an answer to be shared", 10)
    os.kill(demo.pids()["redis"], signal.SIGKILL)
    seen = [_status(demo) for _ in range(3)]  # each is answered: `_status` makes sure of that
    assert any(b"fwd=uri-miss" in one for one in seen)
    until(lambda: b"; hit" in _status(demo, waits=True), "Redis to be started again, and to keep answers", 30)


class Vessels:
    """A small backend that can die and come back at its port."""

    def __init__(self) -> None:
        self.asked = 0
        self.port = 0
        self.connections: set[socket.socket] = set()
        self.open_again()

    @property
    def authority(self) -> str:
        return f"127.0.0.1:{self.port}"

    @property
    def address(self) -> str:
        return f"http://{self.authority}"

    def open_again(self) -> None:
        owner = self

        class Answering(BaseHTTPRequestHandler):
            protocol_version = "HTTP/1.1"

            def setup(self) -> None:
                super().setup()
                owner.connections.add(self.connection)

            def do_GET(self) -> None:
                owner.asked += "tamarack-check" not in self.headers.get("user-agent", "")
                self.send_response(200)
                self.send_header("content-length", "2")
                self.end_headers()
                self.wfile.write(b"[]")

            def log_message(self, *args: Any) -> None:
                """Nothing: the test says what it needs."""

        self.server = ThreadingHTTPServer(("127.0.0.1", self.port), Answering)
        self.server.daemon_threads = True
        self.port = self.server.server_address[1]
        threading.Thread(target=self.server.serve_forever, daemon=True).start()

    def close(self) -> None:
        """Die, with every connection."""
        self.server.shutdown()
        self.server.server_close()
        for connection in self.connections:
            with suppress(OSError):
                connection.shutdown(socket.SHUT_RDWR)
        self.connections = set()
