"""Applications in the portal: description and picture, sharing, usage, lists page by page, trying a call."""

import io
import re
from datetime import UTC, datetime, timedelta
from http.server import BaseHTTPRequestHandler, HTTPServer
from threading import Thread

import psycopg
import pytest
from flask.testing import FlaskClient
from PIL import Image
from sqlmodel import Session, select

from core.traffic.test_traffic import record
from helpers import sign_in
from tamarack.settings import Settings
from tamarack.store.applications import changes as subscribing
from tamarack.store.applications import queries as subscribers
from tamarack.store.applications.tables import Application, Subscription
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.audit.tables import AuditEntry
from tamarack.store.columns import now
from tamarack.store.nodes.tables import Node
from tamarack.store.people.tables import Person
from tamarack.store.portal.picture import Picture
from tamarack.store.rollouts import queries as rolling
from tamarack.store.traffic.recording import Batch, take_in

LEAD = ("m.tern@tern-trips.example", "island-hopper-52")
MEMBER = ("j.gale@tern-trips.example", "north-breeze-64")


def picture(size: tuple[int, int] = (400, 300)) -> io.BytesIO:
    out = io.BytesIO()
    Image.new("RGB", size, "#0f5f73").save(out, "JPEG")
    return io.BytesIO(out.getvalue())


@pytest.fixture
def planner(world: Session) -> Application:
    """An application of Tern Trips, subscribed to Passage."""
    owner = subscribers.organization_named(world, "tern-trips")
    assert owner is not None
    made = subscribing.make_application(world, COMMAND_LINE, owner, "Night Planner", "finds the last boat")
    offered = rolling.running_configuration(world, "production")
    subscribing.subscribe(world, COMMAND_LINE, offered, made, "passage", "skiff", "production")
    world.commit()
    return made


def test_a_description_is_changed_with_a_picture_that_only_those_who_look_after_it_see(
    lead: FlaskClient, world: Session, planner: Application
) -> None:
    where = f"/applications/{planner.id}/description/"
    form = {"title": "Night Boats", "description": "the last boat home", "picture": (picture(), "boat.jpg")}
    assert lead.post(where, data=form).status_code == 303
    world.expire_all()
    assert (planner.title, planner.name) == ("Night Boats", "night-planner")
    kept = world.exec(select(Picture)).one()
    shown = lead.get(f"/pictures/{planner.picture}.png")
    assert (shown.mimetype, shown.data) == ("image/png", kept.data)
    assert (
        lead.get(f"/pictures/{planner.picture}.png", headers={"If-None-Match": shown.headers["ETag"]}).status_code
        == 304
    )
    lead.post("/sign-out")
    assert lead.get(f"/pictures/{planner.picture}.png").status_code == 404
    sign_in(lead, *MEMBER)
    assert lead.get(f"/pictures/{planner.picture}.png").status_code == 404
    lead.post("/sign-out")
    sign_in(lead, *LEAD)
    lead.post(where, data={"title": "Night Boats", "no_picture": "yes"})
    world.expire_all()
    assert planner.picture == ""


@pytest.mark.parametrize(
    ("form", "words"),
    [
        ({"title": "", "description": "kept as typed"}, "is missing; give it 1 to 80"),
        ({"title": "kiosk boats", "description": "kept as typed"}, "Another application is called"),
        ({"title": "Boats", "description": "kept as typed", "picture": (io.BytesIO(b"no picture"), "a.png")},
         "a.png is not a picture"),
    ],
)  # fmt: skip
def test_what_cannot_be_keeps_what_was_typed(
    lead: FlaskClient, world: Session, planner: Application, form: dict[str, object], words: str
) -> None:
    lead.post("/applications/", data={"title": "Kiosk Boats"})
    answer = lead.post(f"/applications/{planner.id}/description/", data=form)
    assert answer.status_code == 422
    assert words in answer.text
    assert "kept as typed" in answer.text
    world.expire_all()
    assert planner.title == "Night Planner"


def test_sharing_shows_it_to_a_member_and_taking_it_back_hides_it(
    lead: FlaskClient, world: Session, planner: Application
) -> None:
    member = world.exec(select(Person).where(Person.email == MEMBER[0])).one()
    where = f"/applications/{planner.id}/description/people"
    colleague = lead.application.test_client()
    sign_in(colleague, *MEMBER)
    assert colleague.get(f"/applications/{planner.id}").status_code == 404
    said = lead.post(where, data={"people": member.id}, follow_redirects=True).text
    assert "is shared with one person, and with every lead" in said
    assert "Night Planner" in colleague.get("/applications/").text
    made = colleague.post(f"/applications/{planner.id}/credentials/", data={"environment": "test", "label": "mine"})
    assert made.status_code == 303
    colleague.post(where, data={})  # a member does not take it away from themselves by an empty form
    assert colleague.get(f"/applications/{planner.id}").status_code == 200
    lead.post(where, data={})
    assert colleague.get(f"/applications/{planner.id}").status_code == 404
    entry = world.exec(select(AuditEntry).where(AuditEntry.action == "share application")).first()
    assert entry is not None
    assert entry.details["people"] == [MEMBER[0]]


def test_an_application_is_shared_within_its_organization_only(
    lead: FlaskClient, world: Session, planner: Application
) -> None:
    stranger = world.exec(select(Person).where(Person.email == "r.crate@kelp-crate.example")).one()
    where = f"/applications/{planner.id}/description/people"
    assert "its own organization only" in lead.post(where, data={"people": stranger.id}, follow_redirects=True).text


def test_what_a_member_makes_is_theirs_to_look_after(portal: FlaskClient, world: Session) -> None:
    sign_in(portal, *MEMBER)
    page = portal.post("/applications/", data={"title": "Tide Table"})
    assert portal.get(page.location).status_code == 200
    form = {"application": "", "title": "Wind Rose", "plan": "passage/skiff", "environment": "test"}
    assert portal.get(portal.post("/apis/sailings/2/subscribe", data=form).location).status_code == 200
    assert portal.get("/applications/").text.count("<b>") >= 2


def test_lists_come_page_by_page_and_are_searched_on_the_server(lead: FlaskClient, world: Session) -> None:
    owner = subscribers.organization_named(world, "tern-trips")
    assert owner is not None
    for number in range(45):
        subscribing.make_application(world, COMMAND_LINE, owner, f"Screen {number:02}")
    world.commit()
    first, last = lead.get("/applications/").text, lead.get("/applications/?page=3").text
    assert "Screen 00" in first
    assert "Screen 20" not in first
    assert "1–20" in first
    assert "Screen 44" in last
    assert "41–45" in last
    found = lead.get("/applications/?search=screen 4").text
    assert "Screen 41" in found
    assert "Screen 01" not in found


def test_subscribing_from_the_page_answers_in_its_place(lead: FlaskClient, world: Session) -> None:
    part = {"HX-Request": "true"}
    form = lead.get("/apis/sailings/2/subscribe", headers=part).text
    assert "<html" not in form
    wrong = lead.post("/apis/sailings/2/subscribe", data={"plan": "passage/skiff", "environment": "production",
                                                          "message": "for the night"}, headers=part)  # fmt: skip
    assert (wrong.status_code, "for the night" in wrong.text, "<html" in wrong.text) == (422, True, False)
    typed = {"application": "", "title": "Pier Board", "plan": "passage/skiff", "environment": "production"}
    made = lead.post("/apis/sailings/2/subscribe", data=typed, headers=part).text
    assert "<html" not in made
    assert made.count("tmk_") == 2  # the key, and the first call with it
    asked = lead.post("/apis/positions/1/subscribe", headers=part,
                      data=typed | {"application": world.exec(select(Application.id)).one(), "plan": "fleet/cutter",
                                    "environment": "production"}).text  # fmt: skip
    assert "is subscribed" in asked
    assert 'id="key"' not in asked  # it has a key there already


def calls(settings: Settings, planner: Application) -> None:
    """Three calls of the application just now: one answered, one refused, one failed at the backend."""
    at = int(datetime.now(UTC).timestamp() * 1_000_000)
    ends = ({}, {"status": 429, "reason": "over-plan"}, {"status": 502, "reason": "backend-away"})
    rows = [
        record(at=at + place, environment="production", organization="tern-trips", application=planner.name,
               api="sailings", version="2", operation="get /sailings", method="GET", path="/sailings/v2/sailings",
               **outcome)
        for place, outcome in enumerate(ends)
    ]  # fmt: skip
    with psycopg.connect(settings.database) as connection:
        take_in(connection, [Batch("b1", "n", rows)])


def test_usage_is_drawn_counted_and_the_refusals_told_with_their_mend(
    lead: FlaskClient, settings: Settings, planner: Application
) -> None:
    where = f"/applications/{planner.id}/usage/"
    assert "No call in the last day" in lead.get(where).text
    calls(settings, planner)
    page = lead.get(where).text
    assert "<svg" in page
    assert "over-plan" in page
    assert "change to a plan that allows more" in page
    assert "1 refused" in page.replace("&#34;", '"')
    assert "Sailings 2" in page
    assert "No call in the last" in lead.get(f"{where}?environment=test").text
    for span in ("hour", "week", "month", "era"):
        assert lead.get(f"{where}?span={span}&api=sailings").status_code == 200
    assert "Sailings only" in lead.get(f"{where}?api=sailings").text
    assert "only" not in lead.get(f"{where}?api=nothing").text.split("<dl")[0].split("</nav>")[-1]


class _Backend(BaseHTTPRequestHandler):
    """Stands where a node would: tells what it was sent, or refuses as the gateway does."""

    def do_GET(self) -> None:
        self.server.seen.append((self.path, dict(self.headers)))  # type: ignore[attr-defined]
        refused = "refuse" in self.path
        body = b'{"reason": "over-plan"}' if refused else b'{"day": "2026-11-23"}'
        self.send_response(429 if refused else 200)
        self.send_header("Content-Type", "application/problem+json" if refused else "application/json")
        self.send_header("RateLimit-Policy", '"skiff-second";q=5;w=1')
        self.send_header("RateLimit", '"skiff-second";r=4;t=1')
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, format: str, *args: object) -> None:
        return


def test_a_call_is_tried_through_a_relay_that_goes_to_a_node_only(
    lead: FlaskClient, world: Session, planner: Application
) -> None:
    where = "/apis/sailings/2/try"
    form = {"call": "get /sailings/{id}", "caller": planner.id, "environment": "production", "path.id": "G 07"}
    assert "No node of production answers" in lead.post(where, data=form).text
    server = HTTPServer(("127.0.0.1", 0), _Backend)
    server.seen = []  # type: ignore[attr-defined]
    Thread(target=server.serve_forever, daemon=True).start()
    later = now() + timedelta(hours=1)  # however long this takes, it was heard of a moment ago
    here = f"http://127.0.0.1:{server.server_port}"
    world.add(Node(name="n1", environment="production", address=here, seen_at=later))
    world.commit()
    try:
        page = lead.post(where, data=form).text
        path, headers = server.seen[0]  # type: ignore[attr-defined]
        assert path == "/sailings/v2/sailings/G%2007"
        assert "Tamarack-Bench" in headers, "the application is vouched for"
        for words in ("200 OK", "2026-11-23", "skiff-second: 4 of 5 left"):
            assert words in page
        refused = lead.post(where, data=form | {"path.id": "refuse"}).text
        assert "change to a plan that allows more" in refused
        lead.post(where, data=form | {"caller": "with:api-key", "typed:api-key": "tmk_mine"})
        _, headers = server.seen[2]  # type: ignore[attr-defined]
        assert (headers.get("x-skerry-key"), headers.get("Tamarack-Bench")) == ("tmk_mine", None)
        lead.post(where, data=form | {"caller": "nothing", "key": "tmk_mine"})
        _, headers = server.seen[3]  # type: ignore[attr-defined]
        assert "x-skerry-key" not in headers
        missing = lead.post(where, data=form | {"path.id": ""})
        assert (missing.status_code, "id has to be given" in missing.text) == (422, True)
        assert lead.post(where, data=form | {"environment": "moon"}).status_code == 400
        assert lead.post(where, data=form | {"call": "get /elsewhere"}).status_code == 404
        for _ in range(60):  # sixty calls in a minute, with the one that met no node
            last = lead.post(where, data=form)
        assert (last.status_code, "wait a little" in last.text) == (422, True)
        assert len(server.seen) == 59  # type: ignore[attr-defined]
    finally:
        server.shutdown()
        server.server_close()


def test_who_still_calls_what_ends_reads_where_to_go(
    lead: FlaskClient, settings: Settings, planner: Application, world: Session
) -> None:
    page = lead.get(f"/applications/{planner.id}").text
    assert "still calls" not in page
    at = int(datetime.now(UTC).timestamp() * 1_000_000) - 60_000_000
    rows = [record(at=at + n, id=f"c{n}", environment="production", organization="tern-trips", application=planner.name, api="sailings",
                   version="1", operation="get /sailings") for n in range(3)]  # fmt: skip
    with psycopg.connect(settings.database) as connection:
        take_in(connection, [Batch("b7", "n", rows)])
    for subscription in world.exec(select(Subscription)):
        subscription.made_at -= timedelta(days=30)
        world.add(subscription)
    world.commit()
    said = " ".join(re.sub(r"<[^>]+>", " ", lead.get(f"/applications/{planner.id}").text).split())
    assert re.search(
        r"still calls Sailings 1 , which is deprecated from .*: 3 calls in 7 days, the last \d+ (s|min) ago", said
    ), said
    assert "To move, call version 2 at /sailings/v2 ; the same credential and the same subscription hold there." in said
