"""Talking to a chat API from its page: what is said goes through the gateway, and the answer is told as it comes."""

import http.server
import json
import threading
from collections.abc import Iterator
from typing import Any

import pytest
from flask.testing import FlaskClient
from sqlmodel import Session, select

from core.language_models.chats import event, piece, told
from helpers import sign_in
from tamarack.core.trying.bench import BenchCall
from tamarack.portal.catalogue import talking
from tamarack.store.applications import changes as subscribing
from tamarack.store.applications.tables import Application
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.nodes.tables import Node
from tamarack.store.people.tables import Organization
from tamarack.store.rollouts import queries as rolling
from tamarack.web.outgoing.talking import MOST_BYTES, talk

PATH = "/apis/announcements/1/talk/"
SAID = {"model": "notices", "messages": [{"role": "user", "content": "The 14:05 is late."}]}


class FakeNode(http.server.BaseHTTPRequestHandler):
    """Answers each call with what the test says, and keeps what it was asked."""

    answers: list[tuple[int, str, bytes]] = []
    asked: list[tuple[dict[str, str], Any]] = []

    def do_POST(self) -> None:
        body = self.rfile.read(int(self.headers["Content-Length"]))
        type(self).asked.append((dict(self.headers), json.loads(body)))
        status, media, content = self.answers.pop(0)
        self.send_response(status)
        self.send_header("Content-Type", media)
        self.send_header("Tamarack-Call-Id", "c1")
        self.end_headers()
        self.wfile.write(content)

    def log_message(self, *said: Any) -> None:
        """Say nothing."""


@pytest.fixture
def node() -> Iterator[Node]:
    FakeNode.answers, FakeNode.asked = [], []
    server = http.server.HTTPServer(("127.0.0.1", 0), FakeNode)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield Node(name="n1", environment="production", address=f"http://127.0.0.1:{server.server_port}")
    server.shutdown()
    server.server_close()


def told_of(node: Node, status: int, media: str, content: bytes) -> list[dict[str, Any]]:
    FakeNode.answers.append((status, media, content))
    call = BenchCall(method="POST", path="/x", headers=("Content-Type: application/json",), body="{}", application="a")
    return list(talk(call, node, bytes(32), "someone"))


def test_pieces_are_told_one_by_one_and_then_what_it_took(node: Node) -> None:
    usage = event(choices=[], usage={"prompt_tokens": 7, "completion_tokens": 2})
    stream = piece("Dear ") + piece("all") + usage + b"data: [DONE]\n\n"
    *texts, last = told_of(node, 200, "text/event-stream", stream)
    assert texts == [{"text": "Dear "}, {"text": "all"}]
    assert (last["prompt_tokens"], last["completion_tokens"], last["call"]) == (7, 2, "c1")
    assert 0 <= last["first_ms"] <= last["ms"]
    whole = told_of(node, 200, "application/json", told(3, 4, "Dear all"))
    assert whole[0] == {"text": "Dear all"} and whole[-1]["completion_tokens"] == 4


def test_what_is_refused_is_told_in_the_gateways_words(node: Node) -> None:
    problem = json.dumps({"title": "Too many tokens", "detail": "The limit 'x' is used up."}).encode()
    assert told_of(node, 429, "application/problem+json", problem) == [
        {"problem": "The limit 'x' is used up.", "status": 429, "call": "c1"}
    ]
    for odd in (b"", b"[1]", b'{"detail": 7}', b"<p>"):
        assert told_of(node, 502, "text/html", odd)[0]["problem"] == "answered 502 Bad Gateway"
    gone = Node(name="n2", environment="production", address="http://127.0.0.1:9")
    assert "n2 gave no answer" in told_of(gone, 200, "", b"")[0]["problem"]


def test_an_answer_without_end_is_read_up_to_a_bound(node: Node) -> None:
    many = told_of(node, 200, "text/event-stream", piece("x" * 1000) * 3000)
    assert sum(len(one.get("text", "")) for one in many) <= MOST_BYTES


@pytest.fixture
def office(portal: FlaskClient, world: Session) -> FlaskClient:
    """The lead of the Ticket Office, whose Counter Desk may ask for notices."""
    organization = world.exec(select(Organization).where(Organization.name == "ticket-office")).one()
    made = subscribing.make_application(world, COMMAND_LINE, organization, "Counter Desk", "")
    offered = rolling.running_configuration(world, "production")
    subscribing.subscribe(world, COMMAND_LINE, offered, made, "notices", "cutter", "production")
    world.commit()
    return sign_in(portal, "a.quay@skerry.example", "counter-desk-88")


def said(client: FlaskClient, world: Session, said: Any, title: str = "Counter Desk") -> tuple[int, list[Any]]:
    id = world.exec(select(Application).where(Application.title == title)).one().id
    text = said if isinstance(said, str) else json.dumps(said)
    answer = client.post(PATH, data={"caller": f"{id} production", "said": text})
    answer.close()  # as a server does when all of it was sent
    return answer.status_code, [json.loads(line) for line in answer.text.splitlines() if line[:1] == "{"]


def test_the_page_offers_ones_applications_and_the_models(office: FlaskClient) -> None:
    shown = office.get(PATH).text
    assert "Counter Desk, production" in shown and "<option>notices</option>" in shown
    assert "Talk</a>" in office.get("/apis/announcements/1/").text
    assert office.get("/apis/sailings/2/talk/").status_code == 404
    assert "Talk</a>" not in office.get("/apis/sailings/2/").text


def test_what_is_said_is_sent_as_the_application_and_asks_for_a_stream(
    office: FlaskClient, world: Session, node: Node, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(talking, "a_node", lambda where: node)
    FakeNode.answers.append((200, "text/event-stream", piece("Dear all")))
    status, lines = said(office, world, SAID)
    assert (status, lines[0]) == (200, {"text": "Dear all"})
    fields, body = FakeNode.asked[0]
    assert body["stream"] is True and body["stream_options"] == {"include_usage": True} and body["model"] == "notices"
    assert fields["Tamarack-Bench"] and "Authorization" not in fields
    places = [talking._PLACES.acquire(blocking=False) for _ in range(talking.MOST_TALKING)]
    assert all(places), "the place was given back"
    assert said(office, world, SAID)[1][0]["problem"].startswith("Others are talking")
    for _ in places:
        talking._PLACES.release()


@pytest.mark.parametrize(
    ("what", "words"),
    [
        ("{", "cannot be read"),
        ({"messages": []}, "at least 1"),
        (SAID | {"max_tokens": 0}, "greater than or equal to 1"),
        ({"messages": [{"role": "judge", "content": "x"}]}, "user"),
        (SAID, "No node of production answers"),
    ],
)
def test_what_cannot_be_said_is_told(office: FlaskClient, world: Session, what: Any, words: str) -> None:
    status, lines = said(office, world, what)
    assert status == 422 and words in lines[0]["problem"]


def test_nobody_talks_as_anothers_application(office: FlaskClient, lead: FlaskClient, world: Session) -> None:
    assert said(lead, world, SAID)[0] == 404
