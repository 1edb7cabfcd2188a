"""A node of one's own: set up by the quick start in another folder under another user, seen, serving while the control
side is away, drained, and revoked.
"""

import http.client
import os
import signal
import ssl
import threading

import psycopg
import pytest
from playwright.sync_api import Page, expect

from helpers import until
from journeys.conftest import Installation, sign_in
from journeys.nodes.place import READY_WITHIN_MS, Place
from journeys.test_faults import recorded
from tamarack.demo.world import STAFF
from tamarack.start.certificates import make_certificates

pytestmark = pytest.mark.journey


def test_a_node_is_set_up_elsewhere_serves_through_an_outage_and_is_revoked(
    demo: Installation, page: Page, place: Place
) -> None:
    sign_in(page, demo.console, STAFF[0].email, STAFF[0].password)
    page.goto(demo.console)
    page.get_by_role("link", name="Nodes").click()
    page.get_by_role("link", name="Add a node").click()
    page.locator("#f-environment").select_option("production")
    page.get_by_label("Labels").fill("site=harbour")
    page.get_by_role("button", name="Make the command").click()
    command = page.locator("#quick-start").inner_text()
    place.run(f"{command} -s -- --name pier-1 --port {place.port}")
    expect(page.get_by_text("pier-1 serves production")).to_be_visible(timeout=READY_WITHIN_MS)
    assert len(page.locator(".node-steps .done").all()) == 6

    page.get_by_role("link", name="See the node").click()
    expect(page.get_by_text("by the feed; it joined")).to_be_visible()
    expect(page.get_by_text(f"http://127.0.0.1:{place.port}")).to_be_visible()
    key = (demo.home / "demo" / "counter-desk.production.key").read_text()
    sent = [place.get("/sailings/v2/ports", key).getheader("tamarack-call-id") for _ in range(5)]
    assert place.get("/.tamarack/ready").status == 200

    _the_control_side_is_away(demo, place, key, sent)
    until(lambda: set(sent) <= set(recorded(demo, "pier")), "all records to be there", 60)
    assert len(recorded(demo, "pier")) == len(sent)

    page.get_by_role("button", name="Drain").click()
    expect(page.get_by_text("pier-1 is asked to be draining")).to_be_visible()
    until(lambda: place.get("/.tamarack/ready").status == 503, "it to say that it is not ready", 10)
    answer = place.get("/sailings/v2/ports", key)
    assert (answer.status, answer.getheader("connection")) == (200, "close")

    page.get_by_role("button", name="Revoke").click()
    expect(page.get_by_text("This node was revoked")).to_be_visible()
    process = place.process
    assert process is not None
    assert process.wait(30) == 78, place.said
    assert "This node stopped for good" in place.said
    left = [path.name for path in (place.folder / "tamarack-node" / "node").rglob("*.json*")]
    assert left == []


def _the_control_side_is_away(demo: Installation, place: Place, key: str, sent: list[str | None]) -> None:
    """Halt the feed for a while; the node serves on, whatever it hears."""
    feed = demo.pids()["feed"]
    os.killpg(feed, signal.SIGSTOP)
    try:
        for _ in range(10):
            answer = place.get("/sailings/v2/ports", key)
            assert answer.status == 200
            sent.append(answer.getheader("tamarack-call-id"))
        until(lambda: "the control side is away, serving on" in place.said, "the node to notice", 60)
        sent.append(place.get("/sailings/v2/ports", key).getheader("tamarack-call-id"))
    finally:
        os.killpg(feed, signal.SIGCONT)
    until(lambda: "the control side is back" in place.said, "the node to hear of it", 60)


def test_a_machine_that_cannot_install_says_so_on_the_page(demo: Installation, page: Page, place: Place) -> None:
    sign_in(page, demo.console, STAFF[0].email, STAFF[0].password)
    page.goto(f"{demo.console}/nodes/new")
    page.get_by_role("button", name="Make the command").click()
    command = page.locator("#quick-start").inner_text()
    for name in os.listdir(place.folder / "packages"):
        if name.startswith("uvloop"):
            (place.folder / "packages" / name).unlink()
    place.run(f"{command} -s -- --name pier-2 --port {place.port}")
    expect(page.get_by_text("Packages could not be installed:")).to_be_visible(timeout=READY_WITHIN_MS)
    expect(page.get_by_text("No matching distribution found for uvloop")).to_be_visible()
    with psycopg.connect(demo.database) as connection:
        assert connection.execute("SELECT 1 FROM node WHERE name = 'pier-2'").fetchone() is None
    page.get_by_role("button", name="Withdraw the token").click()
    expect(page.get_by_text("The join token is good no longer")).to_be_visible()


def test_a_certificate_is_exchanged_under_load_and_no_call_fails(demo: Installation) -> None:
    key = (demo.home / "demo" / "counter-desk.production.key").read_text()
    folder = demo.home / "tls"
    trusted = ssl.create_default_context(cafile=str(folder / "authority.pem"))
    failed: list[str] = []
    answered: list[str] = []
    done = threading.Event()

    def call() -> None:
        while not done.is_set():
            connection = http.client.HTTPSConnection("127.0.0.1", demo.base + 7, timeout=20, context=trusted)
            try:
                for _ in range(3):  # on a connection that is kept
                    connection.request("GET", "/sailings/v2/ports", headers={"X-Skerry-Key": key})
                    answer = connection.getresponse()
                    answer.read()
                    if answer.status not in (200, 429):  # its plan's limit may be met, which is an answer
                        failed.append(str(answer.status))
                    found = connection.sock.getpeercert()
                    answered.append(str(found["serialNumber"]) if found else "")
            except (OSError, http.client.HTTPException) as error:
                failed.append(repr(error))
            finally:
                connection.close()

    callers = [threading.Thread(target=call) for _ in range(3)]
    for one in callers:
        one.start()
    try:
        until(lambda: len(answered) > 10, "calls over TLS", 60)
        before = answered[-1]
        (folder / "shown.pem").unlink()
        make_certificates(demo.home)
        until(lambda: answered[-1] != before, "the new certificate to be shown", 60)
        many = len(answered)
        until(lambda: len(answered) > many + 10, "calls after it", 60)
    finally:
        done.set()
        for one in callers:
            one.join(60)
    assert failed == []
    assert len(set(answered)) == 2
