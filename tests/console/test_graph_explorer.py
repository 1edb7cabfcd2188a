"""Exploring a graph in the console, as any of its subscribers: what each may see, and what each is told."""

import re
from typing import Any

import pytest
from flask.testing import FlaskClient
from sqlmodel import Session, select

from tamarack.console.graph import explorer
from tamarack.core.graphql.schema import graph_of
from tamarack.core.trying.bench import BenchAnswer, BenchCall
from tamarack.store.applications import changes as subscribing
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.people.tables import Organization
from tamarack.store.rollouts import queries as rolling

PATH = "/apis/fleet-graph/1/explorer/"
BERTHS = '{ port(code: "corran") { berths { id } } }'


def caller(world: Session, plan: str) -> str:
    """A subscriber on a plan of the fleet, as the form names it."""
    organization = world.exec(select(Organization).where(Organization.name == "ticket-office")).one()
    made = subscribing.make_application(world, COMMAND_LINE, organization, "Quay Board", "")
    offered = rolling.running_configuration(world, "production")
    subscribing.subscribe(world, COMMAND_LINE, offered, made, "fleet", plan, "production")
    world.commit()
    return f"{made.id} fleet"


def weighed(client: FlaskClient, document: str, **more: str) -> str:
    text = client.post(PATH + "weigh", data={"document": document} | more).text
    return re.sub(r"\s+", " ", re.sub(r"<[^>]+>", " ", text)).strip()


@pytest.mark.parametrize(("plan", "open_"), [("cutter", True), ("skiff", False)])
def test_a_subscriber_sees_what_its_plan_opens(admin: FlaskClient, world: Session, plan: str, open_: bool) -> None:
    key = caller(world, plan)
    page = admin.get(PATH, query_string={"caller": key}).text
    assert f'value="{key}" selected' in page and ("<code>Berth</code>" in page) == open_
    schema = graph_of(admin.get(PATH + "schema.graphql", query_string={"caller": key}).text)
    assert ("Berth" in schema.fields) == open_
    told = weighed(admin, BERTHS, caller=key)
    assert ("Not open to this application: Berth.id." in told) != open_


@pytest.mark.parametrize(
    ("typed", "said"),
    [({"variables": "["}, "The variables are not JSON"), ({"headers": "lamp"}, "is not a header field"),
     ({"headers": "host: x"}, "set by the bench itself")],
)  # fmt: skip
def test_what_cannot_be_sent_says_why(admin: FlaskClient, typed: dict[str, str], said: str) -> None:
    answer = admin.post(PATH + "run", data={"document": "{ ports { code } }"} | typed)
    assert answer.status_code == 422 and said in answer.text


def test_a_document_is_sent_as_the_subscriber_with_the_fields_that_were_typed(
    admin: FlaskClient, world: Session, monkeypatch: pytest.MonkeyPatch
) -> None:
    sent: list[BenchCall] = []

    def answering(call: BenchCall) -> BenchAnswer:
        sent.append(call)
        body = '{"errors": [{"message": "no", "extensions": {"reason": "closed-field"}}]}'
        return BenchAnswer(status=403, reason="Forbidden", body=body, node="production-1", call_id="c1")

    monkeypatch.setattr(explorer, "send_one", answering)
    key = caller(world, "skiff")
    data: dict[str, Any] = {"document": BERTHS, "caller": key, "variables": '{"a": 1}', "operation": "Q",
                            "headers": "accept: application/json\nx-trial: 1"}  # fmt: skip
    page = admin.post(PATH + "run", data=data).text
    (call,) = sent
    assert call.application == key.partition(" ")[0] and call.path == "/graph/v1" and '"operationName":"Q"' in call.body
    assert call.headers == ("Content-Type: application/json", "accept: application/json", "x-trial: 1")
    assert "A field is not open to this caller" in page and "/traffic/calls/c1" in page and "curl" in page


def test_without_subscribers_nothing_runs_and_other_styles_have_no_explorer(admin: FlaskClient) -> None:
    page = admin.get(PATH).text
    assert "Nobody is subscribed in production" in page and "disabled>Run" in page and "<code>Berth</code>" not in page
    assert admin.get("/apis/sailings/2/explorer/").status_code == 404
